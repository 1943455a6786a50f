import type { Lane } from '~/contract/destination'
import type { Failure } from '~/contract/failure'
import type { Condition } from '~/contract/live'
import { Rate } from '../live/rate'
import type { DropReason } from '../outbox/options'
import type { DestinationTarget } from './driver'
import { Flaps } from './flaps'
import type { DestinationContext, Severity } from './lane'

/** Refused messages are told again so often at most, ms. */
const REFUSALS_TOLD_MS = 60_000
/** What is dropped within this is told together, ms. */
const DROPS_TOGETHER_MS = 1000
/** So many refused one after the other, over so long (ms), without one that was taken: it takes nothing. */
const NOTHING_TAKEN = 3
const NOTHING_TAKEN_MS = 5000

type Status = Pick<Condition, 'state' | 'reason' | 'hint' | 'since'>

/** How a lane stands, and what is told of it: each thing when it begins and when it ends, and not each time that it happens. */
export class LaneCondition {
  private status: Status
  private readonly rate = new Rate()
  private last: number | null = null
  private readonly flaps = new Flaps()
  private lossTold = false
  private readonly dropped = { full: 0, old: 0, told: 0 }
  /** What was refused since something was taken last. */
  private refused: { failure: Failure; count: number; since: number; sinceMono: number } | null = null
  private refusals = { at: Number.NEGATIVE_INFINITY, more: 0 }

  constructor(
    private readonly ctx: Pick<DestinationContext, 'clock' | 'event' | 'driver'>,
    private readonly destination: () => Lane,
  ) {
    this.status = { state: 'starting', reason: 'reads what waits in the outbox', hint: '', since: ctx.clock.wall() }
  }

  event(severity: Severity, code: string, message: string, hint = ''): void {
    this.ctx.event(this.destination(), severity, code, message, hint)
  }

  get state(): Condition['state'] {
    return this.status.state
  }

  /** It has been so since it came into this state, however often it was tried since and whatever was said then. */
  set(state: Condition['state'], reason: string, hint = ''): void {
    this.status = { state, reason, hint, since: state === this.status.state ? this.status.since : this.ctx.clock.wall() }
  }

  present(): Condition {
    const now = this.ctx.clock.mono()
    return { ...(this.takesNothing(now) ?? this.status), rate: this.rate.perSecond(now), last: this.last }
  }

  /** A link that holds and takes nothing is no running one: all that goes out is refused. */
  private takesNothing(now: number): Status | null {
    const { refused, status } = this
    if (status.state !== 'running' || refused === null || refused.count < NOTHING_TAKEN || now - refused.sinceMono < NOTHING_TAKEN_MS) return null
    const { failure, count, since } = refused
    return { state: 'trouble', reason: `takes nothing, ${count} messages went aside: ${failure.message}`, hint: failure.hint, since }
  }

  running(target: DestinationTarget): void {
    this.set('running', this.ctx.driver.protection(target))
  }

  /** A connection stands, after so many tries that failed. */
  up(target: DestinationTarget, failures: number, waiting: number): void {
    const after = failures > 0 ? `up again after ${failures} ${failures === 1 ? 'try' : 'tries'}` : 'up'
    if (failures === 0 || this.lossTold) this.event('good', 'destination.up', `${after}; ${waiting} messages waiting`)
    this.lossTold = false
    this.running(target)
    this.refused = null
  }

  lost(failure: Failure): void {
    this.set('trouble', failure.message, failure.hint)
    if (this.lossTold) return
    const told = this.flaps.lost(this.ctx.clock.mono())
    if (!told) return
    this.lossTold = true
    const more = told.more > 0 ? ` (and ${told.more} times more since it was last told)` : ''
    this.event('trouble', failure.code, failure.message + more, failure.hint)
  }

  /** The destination took a message. @returns when, epoch ms */
  took(): number {
    const { clock } = this.ctx
    this.last = clock.wall()
    this.refused = null
    this.rate.add(1, clock.mono())
    return this.last
  }

  /** The destination refused a message for good. */
  refuses(failure: Failure): void {
    const { clock } = this.ctx
    const now = clock.mono()
    const { count = 0, since = clock.wall(), sinceMono = now } = this.refused ?? {}
    this.refused = { failure, count: count + 1, since, sinceMono }
    if (now - this.refusals.at < REFUSALS_TOLD_MS) {
      this.refusals.more++
      return
    }
    const more = this.refusals.more > 0 ? ` (and ${this.refusals.more} more since)` : ''
    this.event('trouble', failure.code, failure.message + more, failure.hint)
    this.refusals = { at: now, more: 0 }
  }

  /** A message was dropped from the outbox before it could go out. */
  drops(why: DropReason): void {
    if (this.dropped[why]++ > 0) return
    this.ctx.clock.after(DROPS_TOGETHER_MS, () => {
      const n = this.dropped[why]
      this.dropped[why] = 0
      const words = n === 1 ? '1 message dropped' : `${n} messages dropped`
      if (why === 'full') {
        this.event('trouble', 'outbox.full', `${words}, the oldest first: the outbox is full`, 'Give it more room, or bring the link back')
        return
      }
      if (why === 'told') {
        this.event('note', 'outbox.cleared', `${words} from the outbox, as somebody said`, 'They count as dropped in the ledger')
        return
      }
      const { outboxHours } = this.destination().settings
      this.event('trouble', 'outbox.old', `${words}: waited for more than ${outboxHours} h`, 'Let them wait longer, or bring the link back')
    })
  }
}
