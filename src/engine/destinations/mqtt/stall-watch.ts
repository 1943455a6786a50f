/** So many times in a row the same number must have come and no more, before it counts as the broker's own bound. */
const TIMES = 3

/**
 * Finds out how many unacknowledged deliveries a broker hands out at once, when it does not say: each time that many have
 * come it waits for us, and we had better not let it.
 */
export class StallWatch {
  private bound = Number.POSITIVE_INFINITY
  private peak = 0
  private same = 0
  private last = 0

  /** A new connection begins: what was learned stays, what was counted does not. */
  begin(): void {
    this.peak = 0
  }

  /** One more has come, `outstanding` are unacknowledged now; true: the broker waits for us. */
  came(outstanding: number): boolean {
    if (outstanding > this.bound) {
      this.bound = Number.POSITIVE_INFINITY
      this.same = 0
    }
    if (outstanding > this.peak) this.peak = outstanding
    return outstanding >= this.bound
  }

  /** One of `outstanding` is acknowledged now. */
  acknowledged(outstanding: number): void {
    // Only the first of a batch shows how many had gathered.
    if (outstanding < this.peak || this.peak === 0) return
    if (this.peak === this.last) this.same++
    else this.same = 1
    this.last = this.peak
    this.peak = 0
    if (this.same >= TIMES) this.bound = this.last
  }
}
