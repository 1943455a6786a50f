import { AHEAD } from '~/core/delivery/delivery-store'

/**
 * How far messages may have gone out: it is written before the first of them goes, so that a later run knows which of those that it
 * finds waiting may have been on the wire, and which surely never were.
 */
export class Announced {
  private before = -1
  private own = 0
  private farthest = -1
  private written = AHEAD

  /** `announced` was written by the run before; positions from `own` on are given by this one. */
  load(announced: number, own: number): void {
    this.before = this.written = Math.max(announced, AHEAD)
    this.own = own
  }

  /** Whether a message of an earlier run may have gone out, and perhaps arrived. */
  inDoubt(ordinal: number): boolean {
    return ordinal < this.own && ordinal <= this.before
  }

  /** Whether one may go out now. One that may not can when the next flush is written. */
  covers(ordinal: number): boolean {
    this.farthest = Math.max(this.farthest, ordinal)
    return ordinal <= this.written
  }

  /** What the next flush announces. */
  next(): number {
    return Math.max(this.written, this.farthest + AHEAD)
  }

  wrote(announced: number): void {
    this.written = Math.max(this.written, announced)
  }
}
