/** Losses of one link within this time are told as one, ms. */
const TOGETHER_MS = 60_000

/** Decides when a loss is told: the first at once, those soon after it summed up. */
export class Flaps {
  private toldAt = Number.NEGATIVE_INFINITY
  private more = 0

  /** A loss (`now` monotonic, ms): how many others there were since the last telling; null: not to be told now. */
  lost(now: number): { more: number } | null {
    if (now - this.toldAt < TOGETHER_MS) {
      this.more++
      return null
    }
    const more = this.more
    this.toldAt = now
    this.more = 0
    return { more }
  }
}
