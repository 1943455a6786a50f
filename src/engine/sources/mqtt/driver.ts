import { setTimeout as pause } from 'node:timers/promises'
import { type Failure, FailureError, fail } from '~/contract/failure'
import { filtersOf } from '~/contract/sources/mqtt'
import { overlap } from '~/core/address/topic-filter'
import { plainMessage } from '~/core/mqtt/publish'
import { reasonOf } from '~/core/mqtt/reasons'
import { rebirthCommand } from '~/core/source/sparkplug'
import { Status } from '~/core/value/quality'
import { realClock } from '../../clock/real-clock'
import { accessOf, type MqttAccess } from '../../net/mqtt-access'
import { dialMqtt } from '../../net/mqtt-dial'
import { mqttFailure } from '../../net/mqtt-failure'
import { MqttLink } from '../../net/mqtt-link'
import { tlsFacts } from '../../net/mqtt-socket'
import { brokerSteps, webSocketSteps } from '../../net/mqtt-steps'
import { runSteps } from '../../net/steps'
import type { SourceConnection, SourceDriver, SourceSink, SourceTarget, WantedTag } from '../driver'
import { Listening } from './listen'
import { TopicReader } from './reader'

type Target = SourceTarget<'mqtt'>

const FLUSH_MS = 20
const STALE_EVERY_MS = 1000
/** A node that speaks in unknown aliases is asked for its births again this often at most. */
const REBIRTH_MS = 30_000

const ignore = () => undefined
const access = (t: Target, more = ''): MqttAccess => accessOf(t.settings, t, `${t.settings.clientId}${more}`)

/** Messages of QoS 1 that the broker may hand over before they are acknowledged. */
const RECEIVE_MAXIMUM = 1000

type Heard = (topic: string, payload: Uint8Array, retained: boolean) => void

/** Connects without a session; `heard` hears of each message, `lost` once when the link is lost. */
async function connect(access: MqttAccess, heard: Heard, lost: (failure: Failure) => void): Promise<MqttLink> {
  try {
    const link: MqttLink = await MqttLink.connect(
      dialMqtt,
      realClock,
      { access, clean: true, expiryS: 0, receiveMaximum: RECEIVE_MAXIMUM },
      {
        message: (p) => {
          if (p.qos > 0) link.acknowledge(p.packetId)
          heard(p.topic, p.payload, p.retain)
        },
        closed: (why) => lost(mqttFailure(why, access, 'source')),
      },
    )
    return link
  } catch (e) {
    throw new FailureError(mqttFailure(e, access, 'source'), 502)
  }
}

/** Subscribes; rejects naming the filter that is refused (SUBACK, MQTT 5 3.9.3; 3.1.1 knows only 0x80). */
async function subscribe(link: MqttLink, filters: readonly string[]): Promise<void> {
  const reasons = await link.subscribe(filters, true)
  filters.forEach((filter, i) => {
    const reason = reasons[i] ?? 0x80
    if (reason < 0x80) return
    const { words, hint } = reasonOf(reason)
    const ask = reason === 0x80 ? 'Most likely this log-in may not read there: ask for the permission at the broker' : hint
    throw fail(
      502,
      `mqtt.subscribe-${reason}`,
      `The broker refuses to let us listen on ${filter}: ${reason === 0x87 ? 'not allowed to read there' : words}`,
      ask,
      'source',
    )
  })
}

/** A share of a subscription (MQTT 5 4.8.2) is only what it says where both sides know of it; elsewhere it is a topic that nobody writes to. */
function demandShares(link: MqttLink, filters: readonly string[]): void {
  const share = filters.find((f) => f.startsWith('$share/'))
  if (share === undefined || link.connack.sharedSubscriptions) return
  const why = link.version === 5 ? 'this broker has none' : 'MQTT 3.1.1 has none'
  throw fail(
    502,
    'mqtt.no-shares',
    `${share} is a shared subscription, and ${why}: nothing would ever come`,
    'Listen without a share, or take MQTT 5 where the broker knows it',
    'source',
  )
}

/** Topics of a broker on which devices speak by themselves (OASIS MQTT 5.0 and 3.1.1). */
export const mqttSourceDriver: SourceDriver<'mqtt'> = {
  async *check(target) {
    const { settings } = target
    // A client id of its own: the one in use must not be thrown off the broker by a check.
    const own = access(target, '-check')
    let link: MqttLink | null = null
    try {
      yield* runSteps(
        [
          ...brokerSteps(own, 'source'),
          { key: 'tls', label: 'TLS', run: () => tlsFacts(own) },
          ...webSocketSteps(own),
          {
            key: 'login',
            label: 'Log-in',
            run: async () => {
              link = await connect(own, ignore, ignore)
              return own.cert ? 'the broker takes the client certificate' : own.user ? `logged in as ${own.user}` : 'logged in without name'
            },
          },
          {
            key: 'topics',
            label: 'Topics',
            run: async () => {
              const filters = filtersOf(settings.filters)
              demandShares(link!, filters)
              await subscribe(link!, filters)
              return `may listen on ${filters.join(', ')}`
            },
          },
        ],
        (e) => mqttFailure(e, own, 'source'),
      )
    } finally {
      ;(link as MqttLink | null)?.close()
    }
  },

  async browse(target) {
    throw fail(409, 'mqtt.browse', `${target.name} has no list of its topics`, 'Listen for a while: topics show as messages come', 'source')
  },

  async *listen(target, query, stop) {
    const own = access(target, `-listen-${Date.now().toString(36)}`)
    const listening = new Listening()
    let lost: string | null = null
    const link = await connect(
      own,
      (topic, payload, retained) => listening.message(topic, payload, retained),
      (f) => {
        lost = f.message
      },
    )
    try {
      await subscribe(link, filtersOf(query.filters || target.settings.filters))
      const end = Date.now() + query.seconds * 1000
      while (!stop.aborted && lost === null) {
        await pause(Math.min(500, Math.max(0, end - Date.now())), undefined, { signal: stop }).catch(ignore)
        const over = Date.now() >= end
        yield listening.tell(over)
        if (over) return
      }
    } finally {
      link.close()
    }
  },

  async open(target, _ctx, sink) {
    const own = access(target)
    let connection: TopicConnection | null = null
    const link = await connect(
      own,
      (topic, payload) => connection?.message(topic, payload),
      (failure) => sink.down({ ...failure, hint: 'Embrik tries again by itself' }),
    )
    try {
      connection = new TopicConnection(link, target, sink)
      await subscribe(link, filtersOf(target.settings.filters))
    } catch (e) {
      await connection?.close()
      link.close()
      throw new FailureError(mqttFailure(e, own, 'source'), 502)
    }
    return connection
  },
}

class TopicConnection implements SourceConnection {
  readonly summary: string
  private readonly reader: TopicReader
  private readonly staleTimer: NodeJS.Timeout
  private flushing: NodeJS.Timeout | null = null
  private readonly asked = new Map<string, number>()
  /** What came before the tags were set: retained messages come at once. */
  private early: [string, Uint8Array][] | null = []

  constructor(
    private readonly link: MqttLink,
    private readonly target: Target,
    private readonly sink: SourceSink,
  ) {
    const { settings } = target
    this.summary = `MQTT ${settings.protocol}${settings.tls ? ' over TLS' : ', without TLS'}, listening on ${filtersOf(settings.filters).join(', ')}`
    this.reader = new TopicReader(settings)
    this.staleTimer = setInterval(() => this.stale(), STALE_EVERY_MS)
  }

  async setTags(tags: readonly WantedTag[]): Promise<void> {
    const now = Date.now()
    const wrong = this.reader.setTags(tags)
    const filters = filtersOf(this.target.settings.filters)
    const deaf = tags.flatMap((tag) => {
      const topic = tag.address.split('#')[0]!
      if (topic.startsWith('spBv1.0/') || filters.some((f) => overlap(f, topic))) return []
      return [{ tag, problem: `The source does not listen on ${topic}: add it to its filters` }]
    })
    const all = [...wrong, ...deaf]
    if (all.length > 0)
      this.sink.values({
        handles: all.map((w) => w.tag.handle),
        values: all.map(() => null),
        statuses: all.map(() => Status.nodeInvalid),
        times: all.map(() => now),
        notes: new Map(all.map((w) => [w.tag.handle, { at: now, text: w.problem }])),
      })
    const early = this.early
    this.early = null
    for (const [topic, payload] of early ?? []) this.message(topic, payload)
  }

  message(topic: string, payload: Uint8Array): void {
    if (this.early) {
      if (this.early.length < 20_000) this.early.push([topic, payload])
      return
    }
    const { rebirth } = this.reader.message(topic, payload, Date.now())
    if (rebirth) this.askRebirth(rebirth)
    // Messages come one by one; values go on a few dozen times a second.
    this.flushing ??= setTimeout(() => {
      this.flushing = null
      this.flush()
    }, FLUSH_MS)
  }

  private flush(): void {
    const batch = this.reader.drain()
    if (batch) this.sink.values(batch)
  }

  private askRebirth(node: string): void {
    const now = Date.now()
    if (now - (this.asked.get(node) ?? 0) < REBIRTH_MS) return
    this.asked.set(node, now)
    const [namespace, group, name] = node.split('/')
    this.link.publish(plainMessage(`${namespace}/${group}/NCMD/${name}`, rebirthCommand(now)))
  }

  private stale(): void {
    const now = Date.now()
    const handles = this.reader.stale(now)
    if (handles.length === 0) return
    this.sink.mark(handles, Status.stale, { at: now, text: `No message for ${this.target.settings.staleS} s` })
  }

  async close(): Promise<void> {
    clearInterval(this.staleTimer)
    if (this.flushing) clearTimeout(this.flushing)
    this.flush()
    this.link.close()
  }
}
