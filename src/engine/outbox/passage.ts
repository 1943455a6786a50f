/** Counts what comes in and what is through, in the same order, and tells who waits when all that had come in is through. */
export class Passage {
  private came = 0
  private passed = 0
  private lost = 0
  private ended = false
  private waiting: { at: number; lost: number; done: (whole: boolean) => void }[] = []

  enter(n: number): void {
    this.came += n
  }

  /** The next `n` are through; `lost`: but pushed out. */
  leave(n: number, lost = false): void {
    this.passed += n
    if (lost) this.lost += n
    if (this.waiting.length > 0) this.tell()
  }

  /** Resolves when all that came in so far is through; false: some of it was pushed out, or it ended first. */
  all(): Promise<boolean> {
    return new Promise((done) => {
      this.waiting.push({ at: this.came, lost: this.lost, done })
      this.tell()
    })
  }

  end(): void {
    this.ended = true
    this.tell()
  }

  private tell(): void {
    const over = this.waiting.filter((w) => this.ended || this.passed >= w.at)
    this.waiting = this.waiting.filter((w) => !over.includes(w))
    for (const w of over) w.done(this.passed >= w.at && this.lost === w.lost)
  }
}
