import type { Condition, LastMessage } from '~/contract/live'
import type { Plan } from '~/contract/publication'
import type { Envelope } from '~/core/delivery/envelope'
import { Runner } from '~/core/publication/runner'
import type { Ledger } from '../ledger/ledger'
import { Rate } from '../live/rate'
import type { LiveTable } from '../live/table'
import type { Outbox } from '../outbox/outbox'

/** How often another message is picked to be shown with its way, ms. */
const SHOW_EVERY_MS = 1000
/** A shown message that is not confirmed by then is replaced. */
const SHOW_AT_MOST_MS = 4000

/** Runs one frozen plan: from changes of tags, or the clock, to numbered messages in the outbox. */
export class Publisher {
  private readonly runner: Runner
  private readonly timer: NodeJS.Timeout | null = null
  private readonly unsubscribe: () => void
  private readonly since = Date.now()
  readonly rate = new Rate()
  private lastAt: number | null = null
  /** A message made lately, and its way so far: for people who look. */
  last: LastMessage | null = null

  constructor(
    readonly plan: Plan,
    private readonly table: LiveTable,
    private readonly ledger: Ledger,
    private readonly outbox: () => Outbox | null,
  ) {
    this.runner = new Runner(plan)
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

  private publish(equipment: readonly number[]): void {
    const outbox = equipment.length > 0 ? this.outbox() : null
    if (!outbox) return
    const account = this.ledger.account(this.plan.delivery)
    const now = Date.now()
    const envelopes: Envelope[] = []
    for (const e of equipment) {
      const { payload, at } = this.runner.encode(e, now)
      envelopes.push({
        delivery: this.plan.delivery,
        seq: account.next(now),
        topic: this.plan.equipment[e]!.topic,
        payload,
        qos: this.plan.qos,
        retain: this.plan.retain,
        deviceAt: at,
        producedAt: account.madeAt,
      })
    }
    this.rate.add(envelopes.length, now)
    this.lastAt = now
    this.show(envelopes.at(-1)!)
    outbox.offer(envelopes)
  }

  private show(e: Envelope): void {
    const age = this.last ? e.producedAt - this.last.producedAt : Number.POSITIVE_INFINITY
    if (age < (this.last?.confirmedAt === null ? SHOW_AT_MOST_MS : SHOW_EVERY_MS)) return
    this.last = {
      publicationId: this.plan.publicationId,
      seq: e.seq,
      topic: e.topic,
      payload: String(e.payload),
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
    const all = this.plan.equipment.length
    const held = all - this.runner.all(this.table, Date.now()).length
    const base = { since: this.since, rate: this.rate.perSecond(), last: this.lastAt, hint: '' }
    if (!destination || destination.state === 'off')
      return { ...base, state: 'trouble', reason: 'its destination is switched off', hint: 'The outbox holds what comes meanwhile' }
    if (destination.state === 'trouble') return { ...base, state: 'trouble', reason: destination.reason, hint: destination.hint }
    if (held === all)
      return { ...base, state: 'starting', reason: 'waits for the first values of its tags', hint: 'Look at the tags and their source' }
    const waiting = held > 0 ? `; ${held} of ${all} equipment wait for a first value` : ''
    return { ...base, state: 'running', reason: `version ${this.plan.number}${waiting}` }
  }

  stop(): void {
    this.unsubscribe()
    if (this.timer) clearInterval(this.timer)
  }
}
