import { describe, expect, it } from 'vitest'
import { BRICKS, panned, slices, zoomed } from './view'

const now = Date.UTC(2031, 2, 4, 14)
const live = { sliceMs: 60_000, until: null }

describe('the wall in time', () => {
  it('goes back by bricks, and forth no further than now', () => {
    expect(panned(live, -33, now)).toEqual({ sliceMs: 60_000, until: now - 33 * 60_000 })
    expect(panned({ sliceMs: 60_000, until: now - 10 * 60_000 }, 5, now).until).toBe(now - 5 * 60_000)
    expect(panned({ sliceMs: 60_000, until: now - 10 * 60_000 }, 10, now).until).toBeNull()
    expect(panned(live, 7, now)).toEqual(live)
    // There and back again, while a few seconds went by.
    expect(panned(panned(live, -33, now), 33, now + 5000)).toEqual(live)
    expect(panned(live, -1, now).until).toBe(now - 60_000)
  })

  it.each([0, 0.25, 0.5, 0.75])('keeps what stands at %s of its width where it is', (share) => {
    const before = { sliceMs: 600_000, until: now - 40 * 86_400_000 }
    const under = (v: { sliceMs: number; until: number | null }) => v.until! - (1 - share) * BRICKS * v.sliceMs
    for (const to of ['wider', 'narrower'] as const) expect(under(zoomed(before, to, share, now)!)).toBe(under(before))
  })

  it('goes on where it goes on, and ends at now', () => {
    expect(zoomed(live, 'wider', 1, now)).toEqual({ sliceMs: 600_000, until: null })
    expect(zoomed(live, 'narrower', 0.95, now)).toEqual({ sliceMs: 10_000, until: null })
    expect(zoomed(live, 'wider', 0.5, now)).toEqual({ sliceMs: 600_000, until: null })
    expect(zoomed(live, 'narrower', 0, now)!.until).toBe(now - BRICKS * 60_000 + BRICKS * 10_000)
  })

  it('has a narrowest and a widest brick', () => {
    expect(zoomed({ sliceMs: Number(slices[0]!.value), until: null }, 'narrower', 1, now)).toBeNull()
    expect(zoomed({ sliceMs: Number(slices.at(-1)!.value), until: null }, 'wider', 1, now)).toBeNull()
  })
})
