import type { Cancel, Clock } from '../clock/clock'

/** Rates are counted by halves of a minute, ms. */
const HALF_MS = 30_000

/** Messages of each kind that were sent in this half minute and in the one before. */
export class KindRates {
  private now: Uint32Array
  private before: Uint32Array
  private readonly since: number
  private halfSince: number
  private stopHalves: Cancel = () => undefined

  constructor(
    private readonly count: number,
    private readonly clock: Clock,
  ) {
    this.now = new Uint32Array(count)
    this.before = new Uint32Array(count)
    this.since = this.halfSince = clock.mono()
  }

  begin(): void {
    this.stopHalves = this.clock.every(HALF_MS, () => {
      this.before = this.now
      this.now = new Uint32Array(this.count)
      this.halfSince = this.clock.mono()
    })
  }

  sent(n: number): void {
    this.now[n]!++
  }

  /** Messages a second of each kind, over the last half to whole minute. */
  perSecond(): number[] {
    const mono = this.clock.mono()
    const first = this.halfSince - this.since < HALF_MS
    const seconds = Math.max(1, (mono - (first ? this.since : this.halfSince - HALF_MS)) / 1000)
    return Array.from(this.now, (n, i) => (n + this.before[i]!) / seconds)
  }

  stop(): void {
    this.stopHalves()
  }
}
