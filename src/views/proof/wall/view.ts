/** So many bricks stand beside each other. */
export const BRICKS = 66

/** Widths of a brick, ms. */
export const slices = [
  { value: '10000', label: '10 s' },
  { value: '60000', label: '1 min' },
  { value: '600000', label: '10 min' },
  { value: '3600000', label: '1 h' },
  { value: '86400000', label: '1 d' },
]

/** What of the time is shown: so wide is a brick, ms, and there it ends, epoch ms; null: now, and goes on. */
export interface View {
  sliceMs: number
  until: number | null
}

/** Less than a brick before now is now: while one looked at what was, time went on. */
const ended = (until: number, now: number, sliceMs: number): number | null => (until > now - sliceMs ? null : until)

/** So many bricks later, or earlier; the end of time is now. */
export const panned = ({ sliceMs, until }: View, bricks: number, now: number): View => ({
  sliceMs,
  until: ended((until ?? now) + bricks * sliceMs, now, sliceMs),
})

/**
 * The next wider or narrower bricks. What stands at `share` of the width (0: left) stays there; null: there are none.
 */
export function zoomed({ sliceMs, until }: View, to: 'wider' | 'narrower', share: number, now: number): View | null {
  const at = slices.findIndex((s) => Number(s.value) === sliceMs) + (to === 'wider' ? 1 : -1)
  const next = slices[at]
  if (!next) return null
  const wide = Number(next.value)
  const end = until ?? now
  const under = end - (1 - share) * BRICKS * sliceMs
  // What goes on and is looked at where it goes on goes on.
  if (until === null && share > 0.9) return { sliceMs: wide, until: null }
  return { sliceMs: wide, until: ended(under + (1 - share) * BRICKS * wide, now, wide) }
}
