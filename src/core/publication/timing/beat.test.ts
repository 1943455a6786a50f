import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { firstBeat, nextBeat } from './beat'

const HOUR = 3_600_000

/** Walks so many beats on a clock that the test holds: `drift` says by how much it is set at each; gives the times of beats, as the clock shows them. */
function walk(s: { periodMs: number; aligned: boolean; phaseMs: number }, from: number, beats: number, set: (n: number) => number = () => 0) {
  let wall = from
  let mono = 0
  const out: { wall: number; mono: number }[] = []
  const first = firstBeat(s, wall)
  wall += first
  mono += first
  for (let n = 0; n < beats; n++) {
    out.push({ wall, mono })
    wall += set(n)
    const wait = nextBeat(s, wall)
    wall += wait
    mono += wait
  }
  return out
}

describe('a beat', () => {
  it('that is not aligned comes at once, and then each period', () => {
    const s = { periodMs: 10_000, aligned: false, phaseMs: 0 }
    expect(walk(s, 123, 3).map((b) => b.mono)).toEqual([0, 10_000, 20_000])
  })

  it('that is aligned falls on the clock, with its phase', () => {
    const s = { periodMs: 10_000, aligned: true, phaseMs: 2500 }
    expect(walk(s, 1_000_001, 3).map((b) => b.wall)).toEqual([1_002_500, 1_012_500, 1_022_500])
    expect(walk(s, 1_002_500, 2).map((b) => b.wall)).toEqual([1_002_500, 1_012_500])
    // Before 1970 too.
    expect(walk(s, -15_000, 2).map((b) => b.wall)).toEqual([-7500, 2500])
  })

  it.each([HOUR, -HOUR, 7 * 60_000, -1, 1])('neither doubles nor leaves one out when the clock is set by %d ms', (by) => {
    for (const periodMs of [1000, 60_000, HOUR]) {
      const s = { periodMs, aligned: true, phaseMs: 0 }
      const beats = walk(s, 5 * HOUR + 17, 50, (n) => (n === 20 ? by : 0))
      const waits = beats.slice(1).map((b, i) => b.mono - beats[i]!.mono)
      expect(Math.min(...waits)).toBeGreaterThanOrEqual(periodMs / 2)
      expect(Math.max(...waits)).toBeLessThan(periodMs * 1.5)
      expect(beats.slice(22).every((b) => b.wall % periodMs === 0)).toBe(true)
    }
  })

  it('stays between half and one and a half periods however the clock is set, and lies on it again with the next', () => {
    fc.assert(
      fc.property(
        fc.integer({ min: 100, max: 86_400_000 }),
        fc.integer({ min: 0, max: 86_400_000 }),
        fc.array(fc.integer({ min: -1e10, max: 1e10 }), { minLength: 1, maxLength: 50 }),
        (periodMs, phaseMs, sets) => {
          const s = { periodMs, aligned: true, phaseMs }
          const beats = walk(s, 1_790_000_000_000, sets.length + 1, (n) => sets[n] ?? 0)
          for (const [i, b] of beats.entries()) {
            expect((((b.wall - phaseMs) % periodMs) + periodMs) % periodMs).toBe(0)
            if (i === 0) continue
            const wait = b.mono - beats[i - 1]!.mono
            expect(wait).toBeGreaterThanOrEqual(periodMs / 2)
            expect(wait).toBeLessThan(periodMs * 1.5)
          }
        },
      ),
    )
  })
})
