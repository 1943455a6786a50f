/** First and longest rest, ms. */
const REST_MS = { first: 1000, most: 60_000 }
/** So many messages are passed by at most: they are held in memory until they go out. */
const PASSED_MOST = 20_000

interface Rest {
  /** Monotonic ms. */
  until: number
  ms: number
  /** How many of its messages were passed by. */
  passed: number
}

/**
 * Places of a destination that take nothing just now, while others do: their messages are passed by, and taken up again when they
 * have rested, in their order. Times are monotonic, ms.
 */
export class Resting {
  private readonly places = new Map<string, Rest>()
  private passed = 0

  /** A place takes nothing now: it rests, twice as long as the time before, and as long as is asked for. @returns for how long; 0: it rests already */
  rest(place: string, now: number, leastMs = 0): number {
    const known = this.places.get(place)
    if (known && known.until > now) return 0
    const ms = Math.max(leastMs, known ? Math.min(known.ms * 2, REST_MS.most) : REST_MS.first)
    this.places.set(place, { until: now + ms, ms, passed: known?.passed ?? 0 })
    return ms
  }

  /** Whether its messages are passed by: also when it has rested, as long as one that was passed by is to go before. */
  rests(place: string, now: number): boolean {
    const known = this.places.get(place)
    return known !== undefined && (known.passed > 0 || known.until > now)
  }

  /** One of its messages is passed by. */
  pass(place: string): void {
    const known = this.places.get(place)
    if (!known) return
    known.passed++
    this.passed++
  }

  /** No more are passed by: all wait. */
  get full(): boolean {
    return this.passed >= PASSED_MOST
  }

  /** A place took something. @returns whether it rested */
  took(place: string): boolean {
    const known = this.places.get(place)
    // What was passed by goes out with the next beginning from the oldest.
    if (!known || known.passed > 0) return false
    return this.places.delete(place)
  }

  /** All that could go out has: of what has rested nothing is left, it was taken or went otherwise. @returns whether that was the last */
  through(now: number): boolean {
    let gone = false
    for (const [place, { until, passed }] of this.places) if (passed === 0 && until <= now) gone = this.places.delete(place)
    return gone && this.none
  }

  get none(): boolean {
    return this.places.size === 0
  }

  /** Whether something was passed by whose place has rested. */
  due(now: number): boolean {
    if (this.places.size === 0) return false
    for (const { until, passed } of this.places.values()) if (passed > 0 && until <= now) return true
    return false
  }

  /** It is begun again at the oldest: nothing is passed by yet. */
  again(): void {
    this.passed = 0
    for (const rest of this.places.values()) rest.passed = 0
  }
}
