import type { Failure } from '~/contract/failure'
import { within } from '../clock/clock'
import type { Item } from '../outbox/segment-state'
import type { Answer } from './driver'
import type { LaneParts } from './lane'
import { Resting } from './resting'

/** First and longest wait after the destination said "not now", ms. */
const LATER_MS = { first: 1000, most: 60_000, asked: 3_600_000 }

type Later = Extract<Answer, { kind: 'later' }>

/** What becomes of messages by what the destination answers: taken, not now (all of it, or one place), refused for good. */
export class Replies {
  readonly resting = new Resting()
  private until = 0
  private wait = LATER_MS.first
  private told = false

  constructor(
    private readonly lane: LaneParts,
    /** A connection proved of use. */
    readonly succeeded: () => void,
    /** What troubled is over. */
    readonly running: () => void,
  ) {}

  /** It said "not now", and its time is not over. */
  get waits(): boolean {
    return this.until > 0
  }

  /** It said "not now", and has taken nothing since: one message shows whether it takes any. */
  get probing(): boolean {
    return this.told
  }

  answered(item: Item, answer: Answer): void {
    const { suspicion, outbox, condition, ctx } = this.lane
    const e = item.envelope
    const account = ctx.ledger.account(e.delivery)
    const now = ctx.clock.mono()
    if (answer.kind === 'left') {
      outbox.acknowledged(item)
      return account.leftAlone(e.seq, now)
    }
    const { wary, careful } = suspicion
    suspicion.answered(item)
    // An answer in time ends a silence; what was lost with a link is tried to the last.
    if (wary && !(careful && suspicion.careful) && condition.state === 'trouble') this.running()
    if (answer.kind === 'later') return answer.place ? this.rest(e.topic, answer) : this.later(answer)
    if (answer.kind === 'refused') return this.refuse(item, answer.failure)
    outbox.acknowledged(item)
    this.succeeded()
    const at = condition.took()
    if (answer.kind === 'sent') account.leftAlone(e.seq, now)
    else {
      account.acknowledged(e.seq, now)
      ctx.ledger.ackedRate.add(1, now)
      ctx.step('acknowledged', e.delivery, e.seq, at)
    }
    if (this.resting.took(e.topic) && this.resting.none) this.takesAgain()
    if (!this.told) return
    this.told = false
    this.wait = LATER_MS.first
    this.takesAgain()
  }

  /** What it did not take for a while, it takes now. */
  takesAgain(): void {
    this.running()
    this.lane.condition.event('good', 'destination.takes', 'takes messages again')
  }

  /** Not now, for one place: what goes there is passed by until it has rested. */
  private rest(place: string, { failure, waitMs = 0 }: Later): void {
    const { ctx, outbox, condition } = this.lane
    const first = this.resting.none
    const ms = this.resting.rest(place, ctx.clock.mono(), Math.min(waitMs, LATER_MS.asked))
    this.resting.pass(place)
    if (ms === 0) return
    ctx.clock.after(ms, () => outbox.wake())
    condition.set('trouble', `not now: ${failure.message}; the rest goes on`, failure.hint)
    if (first) condition.event('warning', failure.code, `not now: ${failure.message}; the rest goes on`, failure.hint)
  }

  private later({ failure, waitMs = 0 }: Later): void {
    const { ctx, outbox, condition } = this.lane
    const { clock } = ctx
    // All that were under way get the same answer: one wait for all of them.
    if (this.until > clock.mono()) return
    const wait = Math.max(this.wait, Math.min(waitMs, LATER_MS.asked))
    this.until = clock.mono() + wait
    clock.after(wait, () => outbox.wake())
    condition.set('trouble', `not now: ${failure.message}`, failure.hint)
    if (!this.told) condition.event('warning', failure.code, `not now: ${failure.message}`, failure.hint)
    this.told = true
    this.wait = Math.min(this.wait * 2, LATER_MS.most)
    outbox.wake()
  }

  /** For good: it goes aside, with its reason. */
  refuse(item: Item, failure: Failure): void {
    const { ctx, outbox, condition, destination } = this.lane
    const e = item.envelope
    outbox.acknowledged(item)
    const account = ctx.ledger.account(e.delivery)
    account.refused(e.seq, e.producedAt, e.turn)
    if (account.verdict(e.seq) === 'rejected') outbox.settled(item)
    ctx.putAside({ destinationId: destination.id, envelope: e, failure })
    condition.refuses(failure)
  }

  /** After "not now": waits for what is under way and for its time, then begins again at the oldest. */
  async waitLater(underWay: ReadonlyMap<Item, number>, over: () => boolean): Promise<boolean> {
    const { outbox, ctx } = this.lane
    while (!over() && (underWay.size > 0 || ctx.clock.mono() < this.until)) await within(ctx.clock, 100, outbox.woken())
    if (over()) return false
    this.until = 0
    outbox.rewind()
    return true
  }

  /** A place has rested: waits for what is under way, then begins again at the oldest that has not gone out. */
  async takeUp(underWay: ReadonlyMap<Item, number>, over: () => boolean): Promise<boolean> {
    const { outbox, ctx } = this.lane
    while (!over() && underWay.size > 0) await within(ctx.clock, 100, outbox.woken())
    if (over()) return false
    this.resting.again()
    outbox.rewind()
    return true
  }
}
