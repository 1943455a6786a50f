/** How a condition makes a message speak. */
export interface HoldSettings {
  /** It has to hold for so long before it counts, ms. */
  holdMs: number
}

/** What a look at a condition gave: it holds, it is over (where something else says so, that), or neither. */
export type Look = 'holds' | 'over' | 'between'

/**
 * Conditions of many messages: each counts once it has held for long enough, and until it is over. Between the two, where the one
 * no longer holds and the other does not say that it is over, it stays as it was: that is its hysteresis. Times are monotonic, ms.
 */
export class Holds {
  /** Since when it holds; NaN: it does not. */
  private readonly since: Float64Array
  private readonly counts: Uint8Array
  /** Messages that hold, and do not count yet, in the order in which they will. */
  private readonly coming = new Map<number, number>()

  constructor(
    private readonly settings: HoldSettings,
    count: number,
  ) {
    this.since = new Float64Array(count).fill(Number.NaN)
    this.counts = new Uint8Array(count)
  }

  /** Whether it counts now. */
  on(n: number): boolean {
    return this.counts[n] === 1
  }

  /** Looks at one; gives true at the moment from which it counts. */
  looked(n: number, look: Look, mono: number): boolean {
    if (look === 'over') {
      this.since[n] = Number.NaN
      this.counts[n] = 0
      this.coming.delete(n)
      return false
    }
    if (this.counts[n] === 1) return false
    if (look === 'between') {
      // It has to hold without a break.
      this.since[n] = Number.NaN
      this.coming.delete(n)
      return false
    }
    if (Number.isNaN(this.since[n]!)) this.since[n] = mono
    if (mono - this.since[n]! >= this.settings.holdMs) return this.begin(n)
    if (!this.coming.has(n)) this.coming.set(n, this.since[n]! + this.settings.holdMs)
    return false
  }

  /** It counts already, as far as anybody knows: that is no beginning. */
  assume(n: number): void {
    this.begin(n)
  }

  private begin(n: number): true {
    this.counts[n] = 1
    this.coming.delete(n)
    return true
  }

  /** Messages that have held for long enough by now. */
  due(mono: number): number[] {
    const out: number[] = []
    for (const [n, at] of this.coming) {
      // All hold for the same time: the first to begin is the first to count.
      if (at > mono) break
      out.push(n)
    }
    for (const n of out) this.begin(n)
    return out
  }

  /** When the next one counts, if it holds on, monotonic ms; null: none is coming. */
  get nextAt(): number | null {
    for (const at of this.coming.values()) return at
    return null
  }
}
