import type { Envelope } from '~/core/delivery/envelope'

/** One message with its place in the outbox. */
export interface Item {
  envelope: Envelope
  segment: Segment
  index: number
}

/** One row of the outbox, as it stands in memory. */
export class Segment {
  items: Item[] | null = null
  /** Per message: 1 when acknowledged (or not to be sent any more). */
  readonly done: Uint8Array
  doneCount = 0
  /** Messages whose fate is open: the row stays until it is 0. */
  open: number

  constructor(
    readonly no: number,
    readonly count: number,
    public bytes: number,
    /** Position of its first message among all that ever went through this outbox. */
    readonly ordinal: number,
    readonly ranges: string,
    /** What lay between wall and monotonic clock when it was written, ms: tells when its messages were made. */
    readonly shift: number,
  ) {
    this.done = new Uint8Array(count)
    this.open = count
  }

  get finished(): boolean {
    return this.doneCount === this.count
  }

  /** False when it was so already. */
  markDone(index: number): boolean {
    if (this.done[index] === 1) return false
    this.done[index] = 1
    this.doneCount++
    return true
  }

  markAllDone(): number {
    const left = this.count - this.doneCount
    this.done.fill(1)
    this.doneCount = this.count
    return left
  }

  /** How many from the first on are acknowledged without a gap. */
  get prefix(): number {
    const gap = this.done.indexOf(0)
    return gap < 0 ? this.count : gap
  }
}
