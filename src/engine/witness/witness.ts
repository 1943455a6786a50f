import type { Condition } from '~/contract/live'
import { disjoint } from '~/core/address/topic-filter'
import type { Account, Seen, WitnessView } from '~/core/delivery/account'
import { digest } from '~/core/delivery/digest'
import { parseMessageId } from '~/core/delivery/envelope'
import type { Published } from '~/core/delivery/mqtt-wire'
import { withoutSeq } from '~/core/shape/sparkplug-birth'
import { NAMESPACE } from '~/core/shape/sparkplug-metric'
import { failureOf } from '../failure'
import type { Ledger } from '../ledger/ledger'
import { Rate } from '../live/rate'
import { type MqttAccess, mqttFailure } from '../net/mqtt-access'
import { CountedDeliveries, type Delivered } from './counted'
import { MqttReader } from './reader'
import type { TopicIndex } from './topics'

const NUMBERED = `${NAMESPACE}/`

export interface WitnessHooks {
  event(severity: 'good' | 'warning' | 'trouble', code: string, message: string, hint: string): void
  confirmed(delivery: number, seq: number, at: number): void
}

export interface WitnessOptions {
  access: MqttAccess
  retryMs: number
  installation: string
  destinationId: string
  /** Whether messages carry their id; else they are known by topic and payload. */
  byId: boolean
  ledger: Ledger
  topics: TopicIndex
  filters: readonly string[]
  hooks: WitnessHooks
}

/** Quiet for so long after connecting: it is through with what waited for it at the broker. */
const QUIET_MS = 1000
/** So long after the backlog was through the broker repeats nothing of earlier connections any more. */
const REPEATS_MS = 60_000
/** So long an unknown payload waits at most for its message to be sent (again) before it counts as foreign, where there is no id. */
const STRANGER_MS = 60_000

interface Stranger {
  topic: string
  digest: number
  at: number
  id: number | null
  delivered: Delivered
  /** The accounts of its topic, and what each had stored when it came: once that is sent, it can be none of theirs. */
  before: [Account, number][]
}

/** Reads everything back at the far end of one destination and tells the ledger what came. */
export class Witness {
  private filters: string[]
  private subscribed: string[] = []
  private reader: MqttReader | null = null
  private stopped = false
  private wake: (() => void) | null = null
  /** Counts connections up from 1. */
  private connection = 0
  private tidied = 0
  private connectedAt: number | null = null
  private caughtUpAt: number | null = null
  private blindBefore = 0
  /** What each account had sent when this connection began: anything later shows that the backlog is through. */
  private sentBefore = new Map<Account, number>()
  private readonly counted = new CountedDeliveries()
  private filtersChanged = false
  private acked: [number, Delivered][] = []
  private pinged: { number: number; acked: [number, Delivered][] } | null = null
  /** Payloads that belong to no message yet, by topic, in the order in which they came; nothing on their topic passes them. */
  private readonly strangers = new Map<string, Stranger[]>()
  private readonly rate = new Rate()
  private last: number | null = null
  private status: Pick<Condition, 'state' | 'reason' | 'hint' | 'since'> = { state: 'starting', reason: 'connecting', hint: '', since: Date.now() }
  private running: Promise<void> = Promise.resolve()
  private readyWaiters: (() => void)[] = []

  constructor(private readonly o: WitnessOptions) {
    this.filters = disjoint(o.filters)
  }

  /** Begins to listen; `session` is what an earlier run wrote. */
  start(session: { filters: string[]; counted: Buffer } | null): void {
    if (session) {
      this.counted.restore(session.counted)
      this.subscribed = session.filters
    }
    this.running = this.run()
  }

  present(): Condition {
    return { ...this.status, rate: this.rate.perSecond(), last: this.last }
  }

  /** What it can say now; null while it is away. */
  view(now = Date.now()): WitnessView | null {
    if (this.connectedAt === null) return null
    if (this.caughtUpAt === null && now - Math.max(this.connectedAt, this.last ?? 0) > QUIET_MS) this.caughtUpAt = now
    return { connectedAt: this.connectedAt, caughtUpAt: this.caughtUpAt, blindBefore: this.blindBefore }
  }

  /** What the ledger writes with its counts; null when nothing changed. */
  takeSession(now = Date.now()): { filters: string[]; counted: Buffer } | null {
    if (this.caughtUpAt !== null && now - this.caughtUpAt > REPEATS_MS && this.tidied !== this.connection) {
      this.tidied = this.connection
      this.counted.forgetBefore(this.connection)
    }
    const counted = this.counted.take()
    if (!counted && !this.filtersChanged) return null
    this.filtersChanged = false
    return { filters: this.subscribed, counted: counted ?? this.counted.encode() }
  }

  /** Resolves when it listens, or after `ms`: nobody waits for ever for a witness. */
  async ready(ms: number): Promise<void> {
    if (this.connectedAt !== null || this.stopped) return
    await new Promise<void>((done) => {
      const timer = setTimeout(done, ms)
      this.readyWaiters.push(() => {
        clearTimeout(timer)
        done()
      })
    })
  }

  /** Whether these filters, made disjoint, are what it listens to. */
  listensTo(filters: readonly string[]): boolean {
    return disjoint(filters).join('\n') === this.filters.join('\n')
  }

  /** Listens to these filters from now on; resolves when the broker has them (or at once while away). */
  async setFilters(filters: readonly string[]): Promise<void> {
    this.filters = disjoint(filters)
    if (this.reader && this.connectedAt !== null) {
      try {
        await this.subscribe(this.reader)
      } catch (e) {
        this.trouble(e)
        this.wake?.()
      }
    }
  }

  private async subscribe(reader: MqttReader): Promise<void> {
    const wanted = this.filters
    const fresh = wanted.filter((f) => !this.subscribed.includes(f))
    const stale = this.subscribed.filter((f) => !wanted.includes(f))
    // Old ones go first: where an old and a new filter overlap, both at once would deliver twice.
    await reader.unsubscribe(stale)
    await reader.subscribe(fresh)
    this.subscribed = wanted
    this.filtersChanged = true
  }

  private set(state: Condition['state'], reason: string, hint = ''): void {
    this.status = { state, reason, hint, since: Date.now() }
  }

  private trouble(e: unknown): void {
    const failure = failureOf(e).code === 'engine.failed' ? mqttFailure(e, this.o.access, 'witness') : failureOf(e)
    if (this.status.reason !== failure.message) this.o.hooks.event('trouble', failure.code, failure.message, failure.hint)
    this.set('trouble', failure.message, failure.hint)
  }

  private async run(): Promise<void> {
    const { retryMs } = this.o
    let wait = retryMs
    while (!this.stopped) {
      const ended = new Promise<void>((done) => {
        this.wake = done
      })
      try {
        await this.connect()
        wait = retryMs
        await ended
      } catch (e) {
        this.trouble(e)
      }
      this.connectedAt = null
      this.caughtUpAt = null
      this.reader?.close()
      this.reader = null
      if (this.stopped) break
      await new Promise<void>((done) => {
        const timer = setTimeout(done, wait)
        this.wake = () => {
          clearTimeout(timer)
          done()
        }
      })
      wait = Math.min(wait * 2, retryMs * 8)
    }
  }

  private async connect(): Promise<void> {
    // Before the first packet: what the broker repeats comes right behind its greeting.
    this.sentBefore = new Map([...this.o.ledger.accounts.values()].map((a) => [a, a.sentThrough]))
    this.acked = []
    this.pinged = null
    this.connection++
    const { reader, sessionPresent } = await MqttReader.connect(this.o.access, {
      message: (packet) => this.message(packet),
      pong: (number) => this.pong(number),
      greeted: (r, present) => {
        this.reader = r
        if (!present) this.counted.clear()
      },
      closed: (why) => {
        this.trouble(why)
        this.wake?.()
      },
    })
    if (!sessionPresent) {
      this.subscribed = []
      await this.subscribe(reader)
      this.blindBefore = Date.now()
    } else {
      const stale = this.subscribed.filter((f) => !this.filters.includes(f))
      await reader.unsubscribe(stale)
      await reader.subscribe(this.filters)
      this.subscribed = this.filters
      this.filtersChanged = true
    }
    this.connectedAt = Date.now()
    if (this.status.state === 'trouble') this.o.hooks.event('good', 'witness.up', 'listens again', '')
    this.set('running', `listens to ${this.filters.length === 1 ? this.filters[0] : `${this.filters.length} filters`}`)
    for (const w of this.readyWaiters.splice(0)) w()
  }

  private message(packet: Published): void {
    const at = Date.now()
    this.rate.add(1, at)
    this.last = at
    const id = packet.qos > 0 ? packet.packetId : null
    const five = this.o.access.protocol === '5'
    if (packet.retain && !five) {
      // What was retained before we came (3.1.1 has no way to say that we do not want it).
      if (id !== null) this.reader?.acknowledge(id)
      return
    }
    // What is numbered on the wire was produced without the number.
    const sum = digest(packet.topic.startsWith(NUMBERED) ? withoutSeq(packet.payload) : packet.payload)
    if (id !== null && packet.dup) {
      const before = this.counted.get(id)
      if (before && before.digest === sum) {
        before.connection = this.connection
        if (before.state === 'written') this.acknowledge(id, before)
        return
      }
    }
    const delivered: Delivered = { delivery: 0, seq: 0, digest: sum, state: 'seen', connection: this.connection }
    if (id !== null) this.counted.set(id, delivered)
    if (!this.o.byId) return this.byPayload({ topic: packet.topic, digest: sum, at, id, delivered, before: [] })
    const ours = parseMessageId(this.o.installation, packet.id)
    const account = ours ? this.o.ledger.accounts.get(ours.delivery) : undefined
    if (ours && account) this.seen(account, ours.seq, packet.topic, sum, at, id, delivered)
    else this.foreign(packet.topic, at, id, delivered, ours !== null)
  }

  private seen(account: Account, seq: number, topic: string, sum: number, at: number, id: number | null, delivered: Delivered): void {
    delivered.delivery = account.delivery
    delivered.seq = seq
    if (this.caughtUpAt === null && seq > (this.sentBefore.get(account) ?? 0)) this.caughtUpAt = at
    account.seen({ seq, topic, digest: sum, at, counted: (how) => this.wasCounted(how, id, delivered, at) })
  }

  private wasCounted(how: Seen, id: number | null, delivered: Delivered, at: number): void {
    const { ledger, hooks } = this.o
    if (how !== 'foreign' && how !== 'doubled') {
      ledger.confirmedRate.add(1, at)
      hooks.confirmed(delivered.delivery, delivered.seq, at)
    }
    if (id === null) return
    this.counted.counted(delivered)
    ledger.afterFlush(() => {
      delivered.state = 'written'
      // From an earlier connection: it comes again on this one, and is acknowledged then.
      if (this.counted.get(id) === delivered && delivered.connection === this.connection) this.acknowledge(id, delivered)
    })
  }

  /** Something that carries no id of ours. `removed`: it does, but of a publication that is no more. */
  private foreign(topic: string, at: number, id: number | null, delivered: Delivered, removed: boolean): void {
    const [owner] = removed ? [] : this.o.topics.accounts(topic)
    owner?.foreign(at)
    this.wasCounted('foreign', id, delivered, at)
  }

  // ---- without ids

  private byPayload(s: Stranger): void {
    const list = this.strangers.get(s.topic)
    if (!list && this.match(s)) return
    s.before = this.o.topics.accounts(s.topic).map((a) => [a, a.standing.storedThrough])
    if (list) list.push(s)
    else if (this.nobodys(s, s.at)) this.foreign(s.topic, s.at, s.id, s.delivered, false)
    else this.strangers.set(s.topic, [s])
  }

  private nobodys(s: Stranger, now: number): boolean {
    return s.before.every(([a, stored]) => a.wasSent(stored)) || now - s.at > STRANGER_MS
  }

  private match(s: Stranger): boolean {
    for (const account of this.o.topics.accounts(s.topic)) {
      const seq = account.find(s.topic, s.digest)
      if (seq === null) continue
      this.seen(account, seq, s.topic, s.digest, s.at, s.id, s.delivered)
      return true
    }
    return false
  }

  /** Tries again whose the unknown payloads are; the ledger calls it before it writes. */
  settleStrangers(now = Date.now()): void {
    for (const [topic, list] of this.strangers) {
      let n = 0
      while (n < list.length) {
        const s = list[n]!
        if (!this.match(s)) {
          if (!this.nobodys(s, now)) break
          this.foreign(topic, s.at, s.id, s.delivered, false)
        }
        n++
      }
      list.splice(0, n)
      if (list.length === 0) this.strangers.delete(topic)
    }
  }

  // ---- acknowledging

  private acknowledge(id: number, delivered: Delivered): void {
    if (!this.reader) return
    this.reader.acknowledge(id)
    if (this.acked.push([id, delivered]) === 1) setImmediate(() => this.ping())
  }

  /** Asks whether the broker has the acknowledgements; one question at a time. */
  private ping(): void {
    if (this.pinged || this.acked.length === 0 || !this.reader) return
    this.pinged = { number: this.reader.pingNow(), acked: this.acked }
    this.acked = []
  }

  private pong(number: number): void {
    if (!this.pinged || number < this.pinged.number) return
    for (const [id, delivered] of this.pinged.acked) this.counted.forget(id, delivered)
    this.pinged = null
    this.ping()
  }

  async stop(): Promise<void> {
    this.stopped = true
    this.connectedAt = null
    this.reader?.close()
    this.wake?.()
    for (const w of this.readyWaiters.splice(0)) w()
    await this.running
  }
}
