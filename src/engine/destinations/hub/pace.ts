import type { DayCount } from '~/core/delivery/delivery-store'

/** So much ahead of an even pace may be sent at once, ms: what comes in small bursts is not held up one by one. */
const AHEAD_MS = 50
/** A hub counts by its own clock, and the network bunches what was sent apart: a little is left free. */
const SHARE = 0.95
const DAY_MS = 86_400_000

/** Keeps a sender below what a hub takes a second and a day. */
export class HubPace {
  private nextAt = Number.NEGATIVE_INFINITY

  constructor(
    private readonly perSecond: number | null,
    private readonly perDay: number | null,
    /** What was sent today, over all connections and runs. */
    readonly today: DayCount,
  ) {}

  private roll(wall: number): void {
    const day = Math.floor(wall / DAY_MS)
    // A clock that was set back begins no day anew.
    if (day > this.today.day) Object.assign(this.today, { day, count: 0 })
  }

  /** How long it is until one more may be sent, ms; `mono` and `wall` now. */
  wait(mono: number, wall: number): { ms: number; day: boolean } {
    this.roll(wall)
    if (this.perDay !== null && this.today.count >= this.perDay) return { ms: (this.today.day + 1) * DAY_MS - wall, day: true }
    if (this.perSecond === null) return { ms: 0, day: false }
    return { ms: Math.max(0, this.nextAt - AHEAD_MS - mono), day: false }
  }

  sent(mono: number, wall: number): void {
    this.roll(wall)
    this.today.count++
    if (this.perSecond !== null) this.nextAt = Math.max(this.nextAt, mono) + 1000 / (this.perSecond * SHARE)
  }
}
