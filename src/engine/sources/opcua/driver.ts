import {
  AttributeIds,
  ClientMonitoredItemGroup,
  type ClientSession,
  type ClientSubscription,
  type DataValue,
  type EndpointDescription,
  type OPCUAClient,
  StatusCodes,
  TimestampsToReturn,
  VariableIds,
} from 'node-opcua'
import { FailureError } from '~/contract/failure'
import { conform } from '~/core/value/datatype'
import { Status } from '~/core/value/quality'
import type { Batch } from '../../live/table'
import { log, wordsOf } from '../../log'
import { reachSteps, runSteps } from '../../net/steps'
import type { SourceConnection, SourceContext, SourceDriver, SourceSink, WantedTag } from '../driver'
import { browse } from './browse'
import { askEndpoints, checkPin, chooseEndpoint, hostAndPort, type OpcUaTarget, opcuaFailure, openChannel, openSession, thumbprintOf } from './client'

const GROUP = 1000

/** OPC UA client: OPC 10000-4 sessions and subscriptions over opc.tcp. */
export const opcuaDriver: SourceDriver<'opcua'> = {
  async *check(target, ctx) {
    const { settings } = target
    const own = thumbprintOf(ctx.application.certificate)
    const { host, port } = hostAndPort(settings.endpoint)
    let endpoint: EndpointDescription | null = null
    let client: OPCUAClient | null = null
    let session: ClientSession | null = null
    const explain = (e: unknown) => opcuaFailure(e, own)
    try {
      yield* runSteps(
        [
          ...reachSteps(host, port, 'source'),
          {
            key: 'channel',
            label: 'Secure channel',
            run: async () => {
              endpoint = chooseEndpoint(await askEndpoints(settings, ctx), settings)
              const thumbprint = checkPin(endpoint, settings)
              const kept = settings.serverThumbprint ? 'as kept' : 'new here'
              return {
                detail:
                  settings.mode === 'None'
                    ? 'offered without security: anybody in between can read and change values'
                    : `${settings.mode} with ${settings.policy} offered; server certificate ${thumbprint} (${kept})`,
                ...(thumbprint && settings.mode !== 'None' && { facts: { serverThumbprint: thumbprint } }),
              }
            },
            explain,
          },
          {
            key: 'trusted',
            label: 'Certificate trusted',
            run: async () => {
              client = await openChannel(endpoint!, settings, ctx)
              return settings.mode === 'None' ? 'no certificate asked for' : `the server accepts ours, ${own}`
            },
            explain: (e) => {
              const failure = explain(e)
              return failure.code === 'opcua.failed' && settings.mode !== 'None'
                ? {
                    code: 'opcua.not-trusted',
                    message: 'The server ended the connection when it saw the certificate of Embrik',
                    hint: `Most likely somebody there must trust it once: thumbprint ${own}. Then check again`,
                    where: 'source',
                  }
                : failure
            },
          },
          {
            key: 'session',
            label: 'Session',
            run: async () => {
              session = await openSession(client!, target)
              return settings.login === 'user' ? `logged in as ${settings.user}` : 'logged in as anonymous'
            },
          },
          {
            key: 'read',
            label: 'First read',
            run: async () => {
              const now = await session!.read({ nodeId: `ns=0;i=${VariableIds.Server_ServerStatus_CurrentTime}`, attributeId: AttributeIds.Value })
              if (now.statusCode.isNotGood()) throw new Error(`reading the server's clock: ${now.statusCode.name}`)
              const ahead = (now.value.value as Date).getTime() - Date.now()
              const skew =
                Math.abs(ahead) < 1000 ? 'agrees with ours' : `is ${(Math.abs(ahead) / 1000).toFixed(1)} s ${ahead > 0 ? 'ahead' : 'behind'}`
              return `the server's clock ${skew}`
            },
          },
        ],
        explain,
      )
    } finally {
      await (session as ClientSession | null)?.close().catch(() => undefined)
      await (client as OPCUAClient | null)?.disconnect().catch(() => undefined)
    }
  },

  async browse(target, ctx, address, deep) {
    const { session, end } = await connect(target, ctx)
    try {
      return await browse(session, address, deep)
    } catch (e) {
      throw new FailureError(opcuaFailure(e, thumbprintOf(ctx.application.certificate)), 502)
    } finally {
      await end()
    }
  },

  async open(target, ctx, sink) {
    const link = await connect(target, ctx)
    return OpcUaConnection.start(link, target, sink, thumbprintOf(ctx.application.certificate))
  },
}

interface Link {
  client: OPCUAClient
  session: ClientSession
  end(): Promise<void>
}

async function connect(target: OpcUaTarget, ctx: SourceContext): Promise<Link> {
  let client: OPCUAClient | null = null
  try {
    const endpoint = chooseEndpoint(await askEndpoints(target.settings, ctx), target.settings)
    checkPin(endpoint, target.settings)
    client = await openChannel(endpoint, target.settings, ctx)
    const session = await openSession(client, target)
    const opened = client
    return {
      client,
      session,
      end: async () => {
        await session.close().catch(() => undefined)
        await opened.disconnect().catch(() => undefined)
      },
    }
  } catch (e) {
    await client?.disconnect().catch(() => undefined)
    throw new FailureError(opcuaFailure(e, thumbprintOf(ctx.application.certificate)), 502)
  }
}

type Wanted = WantedTag

class OpcUaConnection implements SourceConnection {
  private groups: { group: ClientMonitoredItemGroup; tags: Wanted[] }[] = []
  private pending: Batch = emptyBatch()
  private scheduled = false
  private over = false
  readonly summary: string

  private constructor(
    private readonly link: Link,
    private readonly subscription: ClientSubscription,
    private readonly rateMs: number,
    private readonly sink: SourceSink,
    settings: OpcUaTarget['settings'],
  ) {
    this.summary = `${settings.mode === 'None' ? 'without security' : settings.mode}, ${settings.login === 'user' ? `as ${settings.user}` : 'anonymous'}`
  }

  static async start(link: Link, target: OpcUaTarget, sink: SourceSink, own: string): Promise<OpcUaConnection> {
    const rate = target.settings.rateMs
    try {
      const subscription = await link.session.createSubscription2({
        requestedPublishingInterval: rate,
        requestedLifetimeCount: 1000,
        requestedMaxKeepAliveCount: Math.max(3, Math.ceil(5000 / rate)),
        maxNotificationsPerPublish: 20_000,
        publishingEnabled: true,
        priority: 1,
      })
      const connection = new OpcUaConnection(link, subscription, rate, sink, target.settings)
      const lost = (why: string) => connection.lost(why, own)
      link.client.on('connection_lost', () => lost('The connection was lost'))
      link.client.on('close', () => lost('The server closed the connection'))
      link.session.on('session_closed', (status) => lost(`The session ended: ${status.name}`))
      link.session.on('keepalive_failure', () => lost('The server no longer answers'))
      subscription.on('terminated', () => lost('The server ended the subscription'))
      subscription.on('internal_error', (e) => log('warn', 'source', wordsOf(e)))
      return connection
    } catch (e) {
      await link.end()
      throw new FailureError(opcuaFailure(e, own), 502)
    }
  }

  private lost(message: string, own: string): void {
    if (this.over) return
    this.over = true
    const failure = opcuaFailure(new Error(message), own)
    this.sink.down({ ...failure, code: 'source.lost', message, hint: 'Embrik tries again by itself' })
  }

  async setTags(tags: readonly Wanted[]): Promise<void> {
    const have = new Map(this.groups.flatMap((g) => g.tags.map((t) => [t.handle, t] as const)))
    const wanted = new Map(tags.map((t) => [t.handle, t]))
    const same = (a: Wanted, b: Wanted | undefined) => b !== undefined && a.address === b.address && a.dataType === b.dataType
    const keep: typeof this.groups = []
    const fresh = new Set(tags.filter((t) => !same(t, have.get(t.handle))))
    for (const g of this.groups) {
      if (g.tags.every((t) => same(t, wanted.get(t.handle)))) {
        keep.push(g)
        continue
      }
      await g.group.terminate()
      for (const t of g.tags) {
        const still = wanted.get(t.handle)
        if (still) fresh.add(still)
      }
    }
    this.groups = keep
    const add = [...fresh]
    for (let i = 0; i < add.length; i += GROUP) await this.addGroup(add.slice(i, i + GROUP))
  }

  private async addGroup(tags: Wanted[]): Promise<void> {
    const group = ClientMonitoredItemGroup.create(
      this.subscription,
      tags.map((t) => ({ nodeId: t.address, attributeId: AttributeIds.Value })),
      { samplingInterval: this.rateMs, discardOldest: true, queueSize: 10 },
      TimestampsToReturn.Both,
    )
    group.on('changed', (_item, value, index) => this.push(tags[index]!, value))
    await new Promise<void>((done, failed) => {
      group.once('initialized', () => done())
      group.once('err', (message) => failed(new Error(message)))
    })
    this.groups.push({ group, tags })
    group.monitoredItems.forEach((item, i) => {
      const status = item.statusCode
      if (status && status !== StatusCodes.Good && status.isNotGood())
        this.queue(tags[i]!.handle, null, status.value || Status.nodeUnknown, Date.now())
    })
  }

  private push(tag: Wanted, v: DataValue): void {
    const value = conform(v.value?.value, tag.dataType)
    const time = (v.sourceTimestamp ?? v.serverTimestamp)?.getTime() ?? Date.now()
    this.queue(tag.handle, value, v.statusCode.value, time)
  }

  private queue(handle: number, value: Batch['values'][number], status: number, time: number): void {
    this.pending.handles.push(handle)
    this.pending.values.push(value)
    this.pending.statuses.push(status >>> 0)
    this.pending.times.push(time)
    if (this.scheduled) return
    this.scheduled = true
    // One batch for all that came in one notification.
    setImmediate(() => {
      this.scheduled = false
      const batch = this.pending
      this.pending = emptyBatch()
      if (!this.over) this.sink.values(batch)
    })
  }

  async close(): Promise<void> {
    this.over = true
    await Promise.race([this.link.end(), new Promise((done) => setTimeout(done, 3000).unref())])
  }
}

function emptyBatch(): Batch {
  return { handles: [], values: [], statuses: [], times: [] }
}
