import { Histogram } from './histogram'

/** Figures are reckoned again so often at most, ms. */
const FRESH_MS = 1000

/** The last hour of latencies, one histogram a minute, and their sum. */
export class LatencyHour {
  readonly minutes = new Map<number, Histogram>()
  private sum = new Histogram()
  private newest = Number.NEGATIVE_INFINITY
  private figured: { at: number; value: { p50: number; p95: number; p99: number; count: number } | null } | null = null

  /** One more, ms, in an epoch minute. */
  add(ms: number, minute: number): void {
    let h = this.minutes.get(minute)
    if (!h) {
      this.minutes.set(minute, (h = new Histogram()))
      if (minute > this.newest) this.forgetBefore(minute - 60)
      this.newest = Math.max(this.newest, minute)
    }
    h.add(ms)
    this.sum.add(ms)
  }

  /** What was written of an epoch minute. */
  set(minute: number, histogram: Histogram): void {
    this.minutes.set(minute, histogram)
    this.sum.merge(histogram)
    this.newest = Math.max(this.newest, minute)
  }

  private forgetBefore(minute: number): void {
    for (const [m, h] of this.minutes) {
      if (m >= minute) continue
      this.minutes.delete(m)
      this.sum.subtract(h)
    }
  }

  total(): Histogram {
    return this.sum
  }

  /** Quantiles in ms as of a second ago at most (`now` monotonic, ms), however many look; null: none yet. */
  figures(now: number): { p50: number; p95: number; p99: number; count: number } | null {
    if (this.figured && now - this.figured.at < FRESH_MS) return this.figured.value
    const { sum } = this
    const value = sum.count === 0 ? null : { p50: sum.quantile(0.5)!, p95: sum.quantile(0.95)!, p99: sum.quantile(0.99)!, count: sum.count }
    this.figured = { at: now, value }
    return value
  }
}
