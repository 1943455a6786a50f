const SLOTS = 5

/** Counts things and tells how many a second there were over the last five; `now` by the monotonic clock, ms. */
export class Rate {
  private readonly counts = new Float64Array(SLOTS + 1)
  private second = 0
  total = 0

  add(n: number, now = performance.now()): void {
    this.turn(now)
    this.counts[this.second % (SLOTS + 1)]! += n
    this.total += n
  }

  perSecond(now = performance.now()): number {
    this.turn(now)
    let sum = 0
    for (let i = 1; i <= SLOTS; i++) sum += this.counts[(this.second - i + SLOTS + 1) % (SLOTS + 1)]!
    return sum / SLOTS
  }

  private turn(now: number): void {
    const second = Math.floor(now / 1000)
    if (second - this.second > SLOTS) this.counts.fill(0)
    else for (let s = this.second + 1; s <= second; s++) this.counts[s % (SLOTS + 1)] = 0
    this.second = second
  }
}
