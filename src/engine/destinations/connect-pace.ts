/** A minute, ms. */
const MINUTE_MS = 60_000

/** Keeps those who connect to one place below what it takes: so many times a minute, all of them together. */
export class ConnectPace {
  /** When somebody connected of late, monotonic ms. */
  private readonly times: number[] = []

  /** How long it is until one more may connect, ms; `most` a minute, 0: as often as it likes. Who may at once counts as connecting. */
  wait(now: number, most: number): number {
    while (this.times[0] !== undefined && now - this.times[0] >= MINUTE_MS) this.times.shift()
    if (most > 0 && this.times.length >= most) return this.times[this.times.length - most]! + MINUTE_MS - now
    if (most > 0) this.times.push(now)
    return 0
  }
}
