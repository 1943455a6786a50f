import {
  AttributeIds,
  ClientMonitoredItemGroup,
  type ClientSession,
  type ClientSubscription,
  DataChangeFilter,
  DataChangeTrigger,
  DataType,
  type DataValue,
  DeadbandType,
  type OPCUAClient,
  resolveNodeId,
  StatusCodes,
  TimestampsToReturn,
  Variant,
  VariantArrayType,
} from 'node-opcua-client'
import { FailureError, fail } from '~/contract/failure'
import type { PeerTime } from '~/core/proof/peer-time'
import { rounded } from '~/core/source/payload'
import { conform } from '~/core/value/datatype'
import type { Scalar } from '~/core/value/deadband'
import { Status } from '~/core/value/quality'
import { fitsSigned64, wholeOf } from '~/core/value/whole'
import type { Batch } from '../../live/table'
import { log, wordsOf } from '../../log'
import type { SourceConnection, SourceSink, WantedTag } from '../driver'
import { type OpcUaTarget, opcuaFailure } from './client'
import { leafOf, splitAddress } from './leaf'
import { type Limits, readLimits } from './limits'

export interface Link {
  client: OPCUAClient
  session: ClientSession
  end(): Promise<void>
}

/** Tags that share one monitored item: the same node, sampled and filtered alike. */
interface Item {
  nodeId: string
  samplingMs: number
  filter: DataChangeFilter | null
  tags: { tag: WantedTag; pointer: string[] | null }[]
}

interface ItemGroup {
  group: ClientMonitoredItemGroup
  subscription: ClientSubscription
  items: Item[]
}

const keyOf = (t: WantedTag) => `${t.handle} ${t.address} ${t.dataType} ${t.sampleMs ?? ''} ${t.width ?? 0}`

/** An open session with its subscriptions (OPC 10000-4 5.13 and 5.14). */
export class OpcUaConnection implements SourceConnection {
  readonly summary: string
  private groups: ItemGroup[] = []
  private readonly subscriptions: { subscription: ClientSubscription; items: number }[] = []
  private pending: Batch = emptyBatch()
  private scheduled = false
  private over = false
  private told: PeerTime | null = null
  private readonly pulse: NodeJS.Timeout

  private constructor(
    private readonly link: Link,
    private readonly limits: Limits,
    private readonly settings: OpcUaTarget['settings'],
    private readonly sink: SourceSink,
    private readonly own: string,
  ) {
    const login = settings.login === 'user' ? `as ${settings.user}` : settings.login === 'certificate' ? 'by certificate' : 'anonymous'
    this.summary = `${settings.mode === 'None' ? 'without security' : settings.mode}, ${login}`
    this.pulse = setInterval(() => void this.measure(), 5000)
  }

  static async start(link: Link, target: OpcUaTarget, sink: SourceSink, own: string): Promise<OpcUaConnection> {
    try {
      const connection = new OpcUaConnection(link, await readLimits(link.session), target.settings, sink, own)
      const lost = (why: string) => connection.lost(why)
      link.client.on('connection_lost', () => lost('The connection was lost'))
      link.client.on('close', () => lost('The server closed the connection'))
      link.session.on('session_closed', (status) => lost(`The session ended: ${status.name}`))
      link.session.on('keepalive_failure', () => lost('The server no longer answers'))
      await connection.measure()
      return connection
    } catch (e) {
      await link.end()
      throw new FailureError(opcuaFailure(e, own), 502)
    }
  }

  /** How long the server takes for the smallest read there is. */
  private async measure(): Promise<void> {
    const began = performance.now()
    const asked = Date.now()
    try {
      const told = await this.link.session.read({ nodeId: 'ns=0;i=2258', attributeId: AttributeIds.Value })
      const took = performance.now() - began
      if (!this.over) this.sink.roundTrip(took)
      const theirs = told.value.value instanceof Date ? told.value.value.getTime() : null
      this.told = theirs === null ? null : { theirs, asked, answered: asked + took, cutMs: 1, how: 'time of the server' }
    } catch (e) {
      // A dead link is told by the session's own events; here it is only not measured.
      if (!this.over) log('warn', 'source', `reading the server's clock: ${wordsOf(e)}`)
    }
  }

  peerTime(): PeerTime | null {
    return this.told
  }

  private async subscription(wanted: number): Promise<{ subscription: ClientSubscription; items: number }> {
    const free = this.subscriptions.find((s) => s.items + wanted <= this.limits.itemsPerSubscription)
    if (free) return free
    const rate = this.settings.rateMs
    const subscription = await this.link.session.createSubscription2({
      requestedPublishingInterval: rate,
      requestedLifetimeCount: 1000,
      requestedMaxKeepAliveCount: Math.max(3, Math.ceil(5000 / rate)),
      maxNotificationsPerPublish: 20_000,
      publishingEnabled: true,
      priority: 1,
    })
    subscription.on('terminated', () => this.lost('The server ended the subscription'))
    subscription.on('internal_error', (e) => log('warn', 'source', wordsOf(e)))
    const made = { subscription, items: 0 }
    this.subscriptions.push(made)
    return made
  }

  private lost(message: string): void {
    if (this.over) return
    this.over = true
    const failure = opcuaFailure(new Error(message), this.own)
    this.sink.down({ ...failure, code: 'source.lost', message, hint: 'Embrik tries again by itself' })
  }

  async setTags(tags: readonly WantedTag[]): Promise<void> {
    const wanted = new Map(tags.map((t) => [t.handle, keyOf(t)]))
    const have = new Set<number>()
    const keep: ItemGroup[] = []
    for (const g of this.groups) {
      const own = g.items.flatMap((i) => i.tags.map((t) => t.tag))
      if (own.every((t) => wanted.get(t.handle) === keyOf(t))) {
        keep.push(g)
        for (const t of own) have.add(t.handle)
        continue
      }
      await g.group.terminate()
      const s = this.subscriptions.find((x) => x.subscription === g.subscription)
      if (s) s.items -= g.items.length
    }
    this.groups = keep
    const items = this.itemsOf(tags.filter((t) => !have.has(t.handle)))
    const room = this.limits.items - keep.reduce((n, g) => n + g.items.length, 0)
    if (items.length > room)
      this.tell(items.slice(room), Status.resourceUnavailable, `The server watches at most ${this.limits.items} nodes for one client`)
    const fitting = items.slice(0, Math.max(0, room))
    const size = Math.min(this.limits.itemsPerCall, this.limits.itemsPerSubscription)
    for (let i = 0; i < fitting.length; i += size) await this.addGroup(fitting.slice(i, i + size))
  }

  private itemsOf(tags: readonly WantedTag[]): Item[] {
    const items = new Map<string, Item>()
    for (const tag of tags) {
      const { nodeId, pointer } = splitAddress(tag.address)
      const samplingMs = tag.sampleMs ?? (this.settings.samplingMs || this.settings.rateMs)
      // A server cannot filter by one element of an array.
      const width = this.settings.deadbands === 'server' && pointer === null && tag.dataType !== 'text' ? (tag.width ?? 0) : 0
      const key = `${nodeId} ${samplingMs} ${width}`
      let item = items.get(key)
      if (!item) {
        const filter =
          width > 0
            ? new DataChangeFilter({
                trigger: DataChangeTrigger.StatusValue,
                // Per cent is of the tag's own range, which the server need not know: it always gets the width.
                deadbandType: DeadbandType.Absolute,
                deadbandValue: width,
              })
            : null
        items.set(key, (item = { nodeId, samplingMs, filter, tags: [] }))
      }
      item.tags.push({ tag, pointer })
    }
    return [...items.values()].sort((a, b) => a.samplingMs - b.samplingMs)
  }

  private async addGroup(items: Item[]): Promise<void> {
    // One group has one sampling interval and filter: those that differ go apart.
    const alike = new Map<string, Item[]>()
    for (const i of items) {
      const key = `${i.samplingMs} ${i.filter ? JSON.stringify(i.filter.toJSON()) : ''}`
      const list = alike.get(key)
      if (list) list.push(i)
      else alike.set(key, [i])
    }
    for (const list of alike.values()) await this.watch(list)
  }

  private async watch(items: Item[]): Promise<void> {
    const place = await this.subscription(items.length)
    place.items += items.length
    const { samplingMs, filter } = items[0]!
    const group = ClientMonitoredItemGroup.create(
      place.subscription,
      items.map((i) => ({ nodeId: i.nodeId, attributeId: AttributeIds.Value })),
      { samplingInterval: samplingMs, discardOldest: true, queueSize: this.settings.queue, ...(filter && { filter }) },
      TimestampsToReturn.Both,
    )
    group.on('changed', (_item, value, index) => this.push(items[index]!, value))
    await new Promise<void>((done, failed) => {
      group.once('initialized', () => done())
      group.once('err', (message) => failed(new Error(message)))
    })
    this.groups.push({ group, subscription: place.subscription, items })
    const unfiltered: Item[] = []
    group.monitoredItems.forEach((monitored, i) => {
      const status = monitored.statusCode
      if (!status || status === StatusCodes.Good || !status.isNotGood()) return
      // Only numbers can be filtered (OPC 10000-4 7.22.2): for the rest the deadband is kept here.
      if (filter && /Filter|Deadband/.test(status.name)) unfiltered.push({ ...items[i]!, filter: null })
      else this.tell([items[i]!], status.value || Status.nodeUnknown, `The server does not watch it: ${status.name}`, status.name)
    })
    if (unfiltered.length > 0) await this.watch(unfiltered)
  }

  private tell(items: readonly Item[], status: number, text: string, code?: string): void {
    const handles = items.flatMap((i) => i.tags.map((t) => t.tag.handle))
    this.sink.mark(handles, status, { at: Date.now(), text, ...(code && { code }) })
  }

  private push(item: Item, v: DataValue): void {
    const time = (v.sourceTimestamp ?? v.serverTimestamp)?.getTime() ?? Date.now()
    const status = v.statusCode.value
    for (const { tag, pointer } of item.tags) {
      const raw = leafOf(v, pointer)
      const value = conform(raw, tag.dataType)
      const bad = status >>> 30 === 2
      let note: string | null = null
      let own = status
      if (!bad && raw === undefined && pointer) {
        own = Status.noData
        note = `The value has nothing at /${pointer.join('/')}`
      } else if (!bad && value === null && raw !== null && raw !== undefined) {
        own = Status.typeMismatch
        note = `${String(raw).slice(0, 60)} is no ${tag.dataType}`
      } else if (typeof raw === 'bigint' && tag.dataType === 'number' && BigInt(Number(raw)) !== raw) {
        own = Status.subNormal
        note = rounded(raw)
      }
      this.queue(tag.handle, value, own, time)
      if (note) (this.pending.notes ??= new Map()).set(tag.handle, { at: Date.now(), text: note })
      else if (status >>> 30 !== 0)
        (this.pending.notes ??= new Map()).set(tag.handle, { at: Date.now(), text: v.statusCode.description, code: v.statusCode.name })
    }
  }

  private queue(handle: number, value: Scalar, status: number, time: number): void {
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

  async write(tag: WantedTag, value: Scalar): Promise<Scalar> {
    const { nodeId, pointer } = splitAddress(tag.address)
    if (pointer) throw fail(409, 'opcua.part', 'One part of an array or structure cannot be written', 'Only whole values can', 'tag')
    const { session } = this.link
    try {
      const now = await session.read({ nodeId, attributeId: AttributeIds.Value })
      const dataType = now.value.dataType !== DataType.Null ? now.value.dataType : await session.getBuiltInDataType(resolveNodeId(nodeId))
      const sent = toWire(value, dataType)
      if (sent === undefined) throw fail(422, 'tag.value', `${String(value)} does not fit ${DataType[dataType]}`, 'Nothing was written', 'tag')
      const status = await session.write({
        nodeId,
        attributeId: AttributeIds.Value,
        value: { value: new Variant({ dataType, arrayType: VariantArrayType.Scalar, value: sent }) },
      })
      if (status.isNotGood()) throw fail(502, 'opcua.write', `The server refuses the value: ${status.name}`, status.description, 'source')
      const back = await session.read({ nodeId, attributeId: AttributeIds.Value })
      return conform(leafOf(back, null), tag.dataType)
    } catch (e) {
      throw e instanceof FailureError ? e : new FailureError(opcuaFailure(e, this.own), 502)
    }
  }

  async close(): Promise<void> {
    this.over = true
    clearInterval(this.pulse)
    await Promise.race([this.link.end(), new Promise((done) => setTimeout(done, 3000).unref())])
  }
}

const ranges: Partial<Record<DataType, [number, number]>> = {
  [DataType.SByte]: [-128, 127],
  [DataType.Byte]: [0, 255],
  [DataType.Int16]: [-32_768, 32_767],
  [DataType.UInt16]: [0, 65_535],
  [DataType.Int32]: [-2_147_483_648, 2_147_483_647],
  [DataType.UInt32]: [0, 4_294_967_295],
}

/** A value as the node's type wants it; undefined when it does not fit. */
function toWire(value: Scalar, dataType: DataType): unknown {
  if (dataType === DataType.Boolean) return typeof value === 'boolean' ? value : undefined
  if (dataType === DataType.String) return typeof value === 'string' ? value : undefined
  if (dataType === DataType.DateTime) return typeof value === 'string' && !Number.isNaN(Date.parse(value)) ? new Date(value) : undefined
  if (typeof value !== 'bigint' && (typeof value !== 'number' || !Number.isFinite(value))) return undefined
  if (dataType === DataType.Float || dataType === DataType.Double) return Number(value)
  const range = ranges[dataType]
  if (range) return Number.isInteger(value) && value >= range[0] && value <= range[1] ? value : undefined
  if (dataType === DataType.Int64 || dataType === DataType.UInt64) {
    const whole = Number.isInteger(value) || typeof value === 'bigint' ? wholeOf(value) : null
    if (whole === null || (dataType === DataType.Int64 ? !fitsSigned64(whole) : whole < 0)) return undefined
    const raw = BigInt.asUintN(64, BigInt(whole))
    return [Number(raw >> 32n), Number(raw & 0xffffffffn)]
  }
  return undefined
}

function emptyBatch(): Batch {
  return { handles: [], values: [], statuses: [], times: [] }
}
