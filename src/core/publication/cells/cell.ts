import type { EpochMs } from '~/contract/id'
import type { Scalar } from '../../value/deadband'
import { qualityOf, Status } from '../../value/quality'

/** Present values by tag handle. Times are epoch ms. */
export interface ValueArrays {
  value: Scalar[]
  status: ArrayLike<number>
  time: ArrayLike<number>
}

/**
 * One value of a message, made ready: after `read` it holds what its fill gives now. The quality of what is computed is the
 * worst of its inputs'; a bad input, or no answer, makes it bad, without a value.
 */
export interface Cell {
  value: Scalar
  status: number
  /** Time of the newest input, epoch ms, also before 1970; NaN: it has none, as a constant. */
  time: EpochMs
  /** The last value that was good and its time, epoch ms; NaN: there was none yet. */
  goodValue: Scalar
  goodTime: EpochMs
  /** Handles that it reads, each once. */
  readonly handles: readonly number[]
  /** How far it must move to count as changed, in its own unit. */
  readonly width: number
  /** Why there is no value, when computing it is the reason. */
  readonly problem: string | null
  /** It moves by itself, with the time: it is read again though none of its inputs changed. */
  readonly timed?: boolean
  read(from: ValueArrays, now: EpochMs): void
}

/** What keeps something from one reading to the next. */
export interface Remembering {
  /** What it keeps, as JSON; null: nothing yet. */
  memory(): string | null
  /** What it kept before, as it gave it. */
  remember(kept: string): void
}

/** No time: every comparison with it is false. */
export const NO_TIME = Number.NaN

/** Worse than another: bad before uncertain before good; of two alike the first stays. */
const rank = { good: 0, uncertain: 1, bad: 2 }
export const worse = (a: number, b: number) => rank[qualityOf(b)] > rank[qualityOf(a)]

/** What every cell that reads something holds. */
export abstract class Held {
  value: Scalar = null
  status: number = Status.waitingForInitialData
  time: EpochMs = NO_TIME
  goodValue: Scalar = null
  goodTime: EpochMs = NO_TIME

  /** What it holds is the last good value from now on, if it is one. */
  protected keepGood(): void {
    if (this.status >>> 30 !== 0 || this.value === null) return
    this.goodValue = this.value
    this.goodTime = this.time
  }
}
