import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { Pace } from './pace'

/** Lets changes come at their times, and each moment that the pace asks for; gives when each message spoke. */
function run(settings: { mostMs: number | null; leastMs: number | null }, count: number, changes: readonly [at: number, n: number][], until: number) {
  const pace = new Pace(settings, count, 0)
  const said: [at: number, n: number][] = []
  const say = (n: number, at: number) => {
    said.push([at, n])
    pace.spoke(n, at)
  }
  const left = [...changes].sort((a, b) => a[0] - b[0])
  for (;;) {
    const next = Math.min(left[0]?.[0] ?? Number.POSITIVE_INFINITY, pace.nextAt ?? Number.POSITIVE_INFINITY)
    if (next > until) return said
    if (left[0]?.[0] === next) {
      const [at, n] = left.shift()!
      if (pace.changed(n, at)) say(n, at)
    } else {
      const { waited, silent } = pace.due(next)
      for (const n of [...waited, ...silent]) say(n, next)
    }
  }
}

describe('pace', () => {
  it('without bounds lets everything through, and asks for nothing', () => {
    expect(
      run(
        { mostMs: null, leastMs: null },
        1,
        [
          [1, 0],
          [1, 0],
          [2, 0],
        ],
        100,
      ),
    ).toEqual([
      [1, 0],
      [1, 0],
      [2, 0],
    ])
  })
  it('at most every: the first at once, what comes too soon once, when it may', () => {
    expect(
      run(
        { mostMs: 10, leastMs: null },
        1,
        [
          [1, 0],
          [2, 0],
          [5, 0],
          [30, 0],
        ],
        100,
      ),
    ).toEqual([
      [1, 0],
      [11, 0],
      [30, 0],
    ])
  })
  it('at least every: who is silent says how things are, counted from the last', () => {
    expect(
      run(
        { mostMs: null, leastMs: 10 },
        1,
        [
          [4, 0],
          [7, 0],
        ],
        30,
      ),
    ).toEqual([
      [4, 0],
      [7, 0],
      [17, 0],
      [27, 0],
    ])
  })
  it('both, each message by itself', () => {
    expect(
      run(
        { mostMs: 5, leastMs: 20 },
        2,
        [
          [1, 0],
          [2, 1],
          [3, 0],
        ],
        30,
      ),
    ).toEqual([
      [1, 0],
      [2, 1],
      [6, 0],
      [22, 1],
      [26, 0],
    ])
  })
  it('with one bound as the other it speaks each time, once', () => {
    expect(
      run(
        { mostMs: 10, leastMs: 10 },
        1,
        [
          [1, 0],
          [4, 0],
          [15, 0],
        ],
        35,
      ),
    ).toEqual([
      [1, 0],
      [11, 0],
      [21, 0],
      [31, 0],
    ])
  })

  it('never speaks sooner or later than it may, and the last change is always said', () => {
    fc.assert(
      fc.property(
        fc.option(fc.integer({ min: 1, max: 50 }), { nil: null }),
        fc.option(fc.integer({ min: 50, max: 200 }), { nil: null }),
        fc.array(fc.tuple(fc.integer({ min: 0, max: 1000 }), fc.integer({ min: 0, max: 2 })), { maxLength: 200 }),
        (mostMs, leastMs, changes) => {
          const until = 2000
          const said = run({ mostMs, leastMs }, 3, changes, until)
          for (const n of [0, 1, 2]) {
            const own = said.filter((s) => s[1] === n).map((s) => s[0])
            const mine = changes.filter((c) => c[1] === n).map((c) => c[0])
            for (const [i, at] of own.entries()) {
              const since = at - (own[i - 1] ?? 0)
              if (i > 0 && mostMs !== null) expect(since).toBeGreaterThanOrEqual(mostMs)
              if (leastMs !== null) expect(since).toBeLessThanOrEqual(leastMs)
            }
            if (mine.length > 0) expect(own.some((at) => at >= Math.max(...mine))).toBe(true)
            if (leastMs !== null) expect(until - (own.at(-1) ?? 0)).toBeLessThanOrEqual(leastMs)
            if (leastMs === null) expect(own.length).toBeLessThanOrEqual(mine.length)
          }
        },
      ),
    )
  })
})
