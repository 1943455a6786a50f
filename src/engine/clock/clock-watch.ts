import type { Cancel, Clock } from './clock'

/** How often is looked, and from which difference on a step is told, ms. */
const LOOK_MS = 1000
const STEP_MS = 2000

/** Notices when the wall clock is set. Gives how to stop; `stepped` hears by how much, ms. */
export function watchClock(clock: Clock, stepped: (byMs: number) => void): Cancel {
  let offset = clock.wall() - clock.mono()
  return clock.every(LOOK_MS, () => {
    const now = clock.wall() - clock.mono()
    const by = now - offset
    // Small differences are a clock that is being steered: followed without a word.
    offset = now
    if (Math.abs(by) >= STEP_MS) stepped(by)
  })
}

/** `3 600 s`, `2 min 5 s`, `1 h`. */
export function stepWords(byMs: number): string {
  const s = Math.round(Math.abs(byMs) / 1000)
  const parts = [
    [Math.floor(s / 3600), 'h'],
    [Math.floor((s % 3600) / 60), 'min'],
    [s % 60, 's'],
  ] as const
  const words = parts.filter(([n]) => n > 0).map(([n, unit]) => `${n} ${unit}`)
  return `${words.join(' ') || '0 s'} ${byMs > 0 ? 'forward' : 'back'}`
}
