import type { Clock } from './clock'

/** The longest that a timer of Node takes, ms; what is longer would fire at once. */
const LONGEST_MS = 2 ** 31 - 1

/** The clock of this machine. */
export const realClock: Clock = {
  wall: () => Date.now(),
  mono: () => performance.now(),
  after(ms, then) {
    const due = performance.now() + ms
    // A timer counts from when the turn of the loop began in which it was made: after a long turn it fires that much early.
    const look = () => {
      const left = due - performance.now()
      if (left > 0) timer = setTimeout(look, Math.min(Math.ceil(left), LONGEST_MS))
      else then()
    }
    let timer = setTimeout(look, Math.min(ms, LONGEST_MS))
    return () => clearTimeout(timer)
  },
  every(ms, then) {
    const timer = setInterval(then, ms)
    return () => clearInterval(timer)
  },
  soon: (then) => void setImmediate(then),
}
