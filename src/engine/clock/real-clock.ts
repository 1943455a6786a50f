import type { Clock } from './clock'

/** The clock of this machine. */
export const realClock: Clock = {
  wall: () => Date.now(),
  mono: () => performance.now(),
  after(ms, then) {
    const timer = setTimeout(then, ms)
    return () => clearTimeout(timer)
  },
  every(ms, then) {
    const timer = setInterval(then, ms)
    return () => clearInterval(timer)
  },
  soon: (then) => void setImmediate(then),
}
