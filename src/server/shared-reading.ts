/**
 * One reading of something large for all who ask at the same time. Who asks while one is under way gets the next, begun after that
 * one ends: never what was read before they asked. So two at most are kept, one of them under way, whoever asks how often.
 * @param read what is read; a failure reaches all who wait for it, and the next begins anew
 */
export function sharedReading<T>(read: () => Promise<T>): () => Promise<T> {
  let running: Promise<T> | null = null
  let next: Promise<T> | null = null
  const begin = (): Promise<T> => {
    const now = read()
    running = now
    const over = () => {
      if (running === now) running = null
    }
    now.then(over, over)
    return now
  }
  return () => {
    if (next) return next
    if (!running) return begin()
    const after = () => {
      next = null
      return begin()
    }
    next = running.then(after, after)
    return next
  }
}
