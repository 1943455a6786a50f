import type { Condition, LastMessage } from '~/contract/live'
import type { Plan } from '~/contract/publication'
import type { Envelope } from '~/core/delivery/envelope'
import { type Addressed, Runner } from '~/core/publication/runner'
import { decoderOf, scopeOf } from '~/core/shape/registry'
import type { Decoder, HostFacts } from '~/core/shape/shape'
import type { NodeSession } from '../destinations/session'
import type { Ledger } from '../ledger/ledger'
import { Rate } from '../live/rate'
import type { LiveTable } from '../live/table'
import type { Outbox } from '../outbox/outbox'
import { type Packed, packer, shownPayload } from './message'
import { sparkplugSession } from './sparkplug-session'

/** How often another message is picked to be shown with its way, ms. */
const SHOW_EVERY_MS = 1000
/** Rates are counted by halves of a minute, ms. */
const HALF_MS = 30_000
/** A shown message that is not confirmed by then is replaced. */
const SHOW_AT_MOST_MS = 4000

/** Runs one frozen plan: from changes of tags, or the clock, to numbered messages in the outbox. */
export class Publisher {
  private readonly runner: Runner
  private readonly timer: NodeJS.Timeout | null = null
  private readonly unsubscribe: () => void
  private readonly since = Date.now()
  private readonly pack: ReturnType<typeof packer>
  private readonly decoders = new Map<number, Decoder>()
  /** What its destination's connection has to do for it; null: nothing. */
  readonly session: NodeSession | null
  readonly rate = new Rate()
  /** Messages of each kind that were sent in this half minute and in the one before. */
  private sentNow: Uint32Array
  private sentBefore: Uint32Array
  private halfSince = Date.now()
  private readonly halves: NodeJS.Timeout
  private lastAt: number | null = null
  /** A message made lately, and its way so far: for people who look. */
  last: LastMessage | null = null

  constructor(
    readonly plan: Plan,
    private readonly table: LiveTable,
    private readonly ledger: Ledger,
    private readonly outbox: () => Outbox | null,
    host?: HostFacts,
  ) {
    this.runner = new Runner(plan, host)
    this.pack = packer(plan)
    this.sentNow = new Uint32Array(plan.messages.length)
    this.sentBefore = new Uint32Array(plan.messages.length)
    this.halves = setInterval(() => {
      this.sentBefore = this.sentNow
      this.sentNow = new Uint32Array(plan.messages.length)
      this.halfSince = Date.now()
    }, HALF_MS)
    this.session = plan.shape.kind === 'sparkplug-b' ? sparkplugSession(plan, plan.shape, this.runner, table) : null
    for (const h of this.runner.handles) table.ensure(h)
    if (plan.trigger.kind === 'change') {
      for (const h of this.runner.handles) this.runner.touch(h)
      this.unsubscribe = table.onBatch((handles) => {
        for (const h of handles) this.runner.touch(h)
        this.publish(this.runner.drain(this.table, Date.now()))
      })
      this.publish(this.runner.drain(table, Date.now()))
    } else {
      // Expressions that remember see every change, also between the beats of the clock.
      this.unsubscribe = table.onBatch((handles) => {
        for (const h of handles) this.runner.touch(h)
        this.runner.drain(this.table, Date.now())
      })
      for (const h of this.runner.handles) this.runner.touch(h)
      const { seconds } = plan.trigger
      this.timer = setInterval(() => this.publish(this.runner.all(this.table, Date.now())), seconds * 1000)
      this.publish(this.runner.all(table, Date.now()))
    }
  }

  private publish(messages: readonly number[]): void {
    const outbox = messages.length > 0 ? this.outbox() : null
    if (!outbox) return
    const account = this.ledger.account(this.plan.delivery)
    const now = Date.now()
    const envelopes: Envelope[] = []
    const add = (topic: string, packed: Packed, retain: boolean, deviceAt: number) =>
      envelopes.push({
        delivery: this.plan.delivery,
        seq: account.next(now),
        topic,
        ...packed,
        qos: this.plan.qos,
        retain,
        deviceAt,
        producedAt: account.madeAt,
      })
    let last: { n: number; message: Addressed; packed: Packed } | null = null
    for (const n of messages) {
      const message = this.runner.encode(n, now, account.producedThrough + 1)
      if (!message) continue
      if (message.before) add(message.topic + message.before.topicSuffix, this.pack(message, message.before.payload), true, message.at)
      const packed = this.pack(message)
      add(message.topic, packed, this.plan.retain, message.at)
      this.sentNow[n]!++
      last = { n, message, packed }
    }
    if (!last) return
    this.rate.add(envelopes.length, now)
    this.lastAt = now
    this.show(envelopes.at(-1)!, last.n, last.message, last.packed)
    outbox.offer(envelopes)
  }

  /** Takes retained messages back: an empty one in their place (MQTT 5 3.3.1.3). */
  clearRetained(topics: readonly string[]): void {
    const outbox = this.outbox()
    if (!outbox || topics.length === 0) return
    const account = this.ledger.account(this.plan.delivery)
    const now = Date.now()
    outbox.offer(
      topics.map((topic) => ({
        delivery: this.plan.delivery,
        seq: account.next(now),
        topic,
        payload: '',
        properties: '',
        qos: 1 as const,
        retain: true,
        deviceAt: now,
        producedAt: account.madeAt,
      })),
    )
  }

  private decoder(n: number): Decoder {
    let decoder = this.decoders.get(n)
    if (!decoder) this.decoders.set(n, (decoder = decoderOf(this.plan.shape, scopeOf(this.plan, this.plan.messages[n]!))))
    return decoder
  }

  private show(e: Envelope, n: number, message: Addressed, packed: Packed): void {
    const age = this.last ? e.producedAt - this.last.producedAt : Number.POSITIVE_INFINITY
    if (age < (this.last?.confirmedAt === null ? SHOW_AT_MOST_MS : SHOW_EVERY_MS)) return
    this.last = {
      publicationId: this.plan.publicationId,
      seq: e.seq,
      topic: e.topic,
      message: shownPayload(this.plan, message, packed, this.decoder(n)),
      deviceAt: e.deviceAt,
      producedAt: e.producedAt,
      storedAt: null,
      sentAt: null,
      acknowledgedAt: null,
      confirmedAt: null,
    }
  }

  /** The shown message got one hop further. */
  step(step: 'stored' | 'sent' | 'acknowledged' | 'confirmed', seq: number, at: number): void {
    if (this.last?.seq === seq) this.last = { ...this.last, [`${step}At`]: at }
  }

  present(destination: Condition | null): Condition {
    const all = this.plan.messages.length
    const held = all - this.runner.all(this.table, Date.now()).length
    const base = { since: this.since, rate: this.rate.perSecond(), last: this.lastAt, hint: '' }
    if (!destination || destination.state === 'off')
      return { ...base, state: 'trouble', reason: 'its destination is switched off', hint: 'The outbox holds what comes meanwhile' }
    if (destination.state === 'trouble') return { ...base, state: 'trouble', reason: destination.reason, hint: destination.hint }
    if (held === all)
      return { ...base, state: 'starting', reason: 'waits for the first values of its tags', hint: 'Look at the tags and their source' }
    const waiting = held > 0 ? `; ${held} of ${all} messages wait for a first value` : ''
    return { ...base, state: 'running', reason: `version ${this.plan.number}${waiting}` }
  }

  /** Messages a second of each kind, over the last half to whole minute. */
  rates(): number[] {
    const now = Date.now()
    const first = this.halfSince - this.since < HALF_MS
    const seconds = Math.max(1, (now - (first ? this.since : this.halfSince - HALF_MS)) / 1000)
    return Array.from(this.sentNow, (n, i) => (n + this.sentBefore[i]!) / seconds)
  }

  stop(): void {
    this.unsubscribe()
    clearInterval(this.halves)
    if (this.timer) clearInterval(this.timer)
  }
}
