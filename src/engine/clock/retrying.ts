import type { Cancel, Clock } from './clock'

export interface RetryPace {
  /** The first wait, ms; each further one is twice as long. */
  firstMs: number
  /** The longest wait, ms. */
  mostMs: number
}

/**
 * Does something again and again until it is stopped, with longer and longer waits between tries that failed. The waits
 * begin anew only when `succeeded` was called: when the work achieved something, not when it merely began.
 */
export class Retrying {
  private over = false
  private wake: () => void = () => undefined
  private running: Promise<void> | null = null
  private wait: number
  /** Tries since the last success. */
  failures = 0

  constructor(
    private readonly clock: Clock,
    private pace: RetryPace,
  ) {
    this.wait = pace.firstMs
  }

  get stopped(): boolean {
    return this.over
  }

  setPace(pace: RetryPace): void {
    this.pace = pace
    this.wait = Math.min(this.wait, pace.mostMs)
  }

  succeeded(): void {
    this.failures = 0
    this.wait = this.pace.firstMs
  }

  /** Begins; each try ends by returning (`'again'`: the next one comes at once) or by throwing, of which `failed` hears. */
  start(work: () => Promise<'again' | 'wait'>, failed: (e: unknown) => void): void {
    this.running ??= this.run(work, failed)
  }

  private async run(work: () => Promise<'again' | 'wait'>, failed: (e: unknown) => void): Promise<void> {
    while (!this.over) {
      let how: 'again' | 'wait' = 'wait'
      try {
        how = await work()
      } catch (e) {
        if (this.over) return
        failed(e)
      }
      if (this.over) return
      if (how === 'again') continue
      this.failures++
      await this.pause(this.wait)
      this.wait = Math.min(this.wait * 2, this.pace.mostMs)
    }
  }

  private pause(ms: number): Promise<void> {
    return new Promise((done) => {
      let cancel: Cancel = () => undefined
      this.wake = () => {
        cancel()
        done()
      }
      cancel = this.clock.after(ms, done)
    })
  }

  /** Makes the next try now. */
  hurry(): void {
    this.wake()
  }

  /** Lets no further try begin; resolves when the present one has ended. */
  async stop(): Promise<void> {
    this.over = true
    this.wake()
    await this.running
  }
}
