/** Ends what was begun; calling it again does nothing. */
export type Cancel = () => void

/**
 * All that delivery knows of time. Durations and schedules go by `mono`, which never goes back and never jumps; `wall` is
 * data: what a message says of when it was made.
 */
export interface Clock {
  /** Epoch ms; somebody may set it, forwards or back, at any moment. */
  wall(): number
  /** ms since some moment before. */
  mono(): number
  /** Calls once, `ms` from now. */
  after(ms: number, then: () => void): Cancel
  /** Calls every `ms` from now on. */
  every(ms: number, then: () => void): Cancel
  /** Calls in a turn of its own, when what is going on now is through. */
  soon(then: () => void): void
}

/** Resolves `ms` from now. */
export const sleep = (clock: Clock, ms: number): Promise<void> =>
  new Promise((done) => {
    clock.after(ms, done)
  })

/** What `work` gives, or null when that takes longer than `ms`; it goes on all the same. */
export async function within<T>(clock: Clock, ms: number, work: Promise<T>): Promise<T | null> {
  let cancel: Cancel = () => undefined
  const over = new Promise<null>((done) => {
    cancel = clock.after(ms, () => done(null))
  })
  try {
    return await Promise.race([work, over])
  } finally {
    cancel()
  }
}
