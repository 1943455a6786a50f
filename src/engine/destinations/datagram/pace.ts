import type { Cancel, Clock } from '../../clock/clock'

/** What may go at once after a rest, ms of it: more than a receiver reads in one go would be lost. */
const BURST_MS = 10

/** Lets so many go a second, evenly. */
export class Pace {
  private tokens = 1
  private at: number
  private readonly most: number
  private waiting: Cancel | null = null

  constructor(
    private readonly perSecond: number,
    private readonly clock: Clock,
    /** Called when one may go again, after none might. */
    private readonly again: () => void,
  ) {
    this.at = clock.mono()
    this.most = Math.max(1, (perSecond * BURST_MS) / 1000)
  }

  /** Whether one may go now. */
  ready(): boolean {
    const now = this.clock.mono()
    this.tokens = Math.min(this.most, this.tokens + ((now - this.at) * this.perSecond) / 1000)
    this.at = now
    if (this.tokens >= 1) return true
    this.waiting ??= this.clock.after(Math.max(1, ((1 - this.tokens) * 1000) / this.perSecond), () => {
      this.waiting = null
      this.again()
    })
    return false
  }

  take(): void {
    this.tokens -= 1
  }

  stop(): void {
    this.waiting?.()
    this.waiting = null
  }
}
