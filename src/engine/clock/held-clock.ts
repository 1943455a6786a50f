import type { Clock } from './clock'

interface Waiting {
  at: number
  /** Null: once. */
  everyMs: number | null
  then: () => void
}

/** A clock that somebody holds: nothing passes but what they let pass, and the wall can be set. */
export class HeldClock implements Clock {
  /** Monotonic, ms. */
  now = 0
  /** So much the wall was set forward, ms. */
  set = 0
  private waiting: Waiting[] = []

  constructor(private readonly epoch = Date.UTC(2026, 10, 29)) {}

  wall = (): number => this.epoch + this.now + this.set
  mono = (): number => this.now
  soon = (then: () => void): void => then()
  after = (ms: number, then: () => void) => this.wait({ at: this.now + ms, everyMs: null, then })
  every = (ms: number, then: () => void) => this.wait({ at: this.now + ms, everyMs: ms, then })

  private wait(one: Waiting): () => void {
    this.waiting.push(one)
    return () => {
      this.waiting = this.waiting.filter((w) => w !== one)
    }
  }

  /** Lets so much time pass, with all that is due in it, one thing after the other. */
  pass(ms: number): void {
    for (const end = this.now + ms; ; ) {
      const next = this.waiting.reduce<Waiting | null>((first, w) => (w.at <= end && (!first || w.at < first.at) ? w : first), null)
      if (!next) {
        this.now = end
        return
      }
      this.now = Math.max(this.now, next.at)
      if (next.everyMs === null) this.waiting = this.waiting.filter((w) => w !== next)
      else next.at += next.everyMs
      next.then()
    }
  }
}
