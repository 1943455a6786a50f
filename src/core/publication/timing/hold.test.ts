import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { Holds, type Look } from './hold'

/** Looks at their times, and each moment that is asked for; gives when each message began to count. */
function run(holdMs: number, looks: readonly [at: number, n: number, look: Look][], until = 10_000) {
  const holds = new Holds({ holdMs }, 4)
  const begun: [at: number, n: number][] = []
  const left = [...looks]
  for (;;) {
    const next = Math.min(left[0]?.[0] ?? Number.POSITIVE_INFINITY, holds.nextAt ?? Number.POSITIVE_INFINITY)
    if (next > until) return { begun, holds }
    if (holds.nextAt === next) for (const n of holds.due(next)) begun.push([next, n])
    else {
      const [at, n, look] = left.shift()!
      if (holds.looked(n, look, at)) begun.push([at, n])
    }
  }
}

describe('a condition', () => {
  it('counts at once without a time to hold, once until it is over', () => {
    const looks: [number, number, Look][] = [
      [1, 0, 'holds'],
      [2, 0, 'holds'],
      [3, 0, 'over'],
      [4, 0, 'holds'],
    ]
    expect(run(0, looks).begun).toEqual([
      [1, 0],
      [4, 0],
    ])
  })
  it('counts when it has held for long enough, without anybody looking', () => {
    const { begun, holds } = run(10, [
      [1, 0, 'holds'],
      [3, 1, 'holds'],
    ])
    expect(begun).toEqual([
      [11, 0],
      [13, 1],
    ])
    expect([0, 1, 2].map((n) => holds.on(n))).toEqual([true, true, false])
  })
  it('begins anew when it stops holding in between', () => {
    expect(
      run(10, [
        [1, 0, 'holds'],
        [5, 0, 'over'],
        [8, 0, 'holds'],
      ]).begun,
    ).toEqual([[18, 0]])
    expect(
      run(10, [
        [1, 0, 'holds'],
        [5, 0, 'between'],
        [8, 0, 'holds'],
      ]).begun,
    ).toEqual([[18, 0]])
  })
  it('stays while it is neither: only what is over begins again', () => {
    const looks: [number, number, Look][] = [
      [1, 0, 'holds'],
      [2, 0, 'between'],
      [3, 0, 'holds'],
      [4, 0, 'over'],
      [5, 0, 'between'],
      [6, 0, 'holds'],
    ]
    expect(run(0, looks).begun).toEqual([
      [1, 0],
      [6, 0],
    ])
  })

  it('counts just where a walk through all moments says so', () => {
    const look = fc.constantFrom<Look>('holds', 'over', 'between')
    fc.assert(
      fc.property(fc.integer({ min: 0, max: 8 }), fc.array(fc.tuple(fc.integer({ min: 0, max: 100 }), look), { maxLength: 60 }), (holdMs, drawn) => {
        const looks = [...drawn].sort((a, b) => a[0] - b[0]).map(([at, l]): [number, number, Look] => [at, 0, l])
        const expected: [number, number][] = []
        let [since, counts] = [Number.NaN, false]
        let last: Look = 'over'
        let i = 0
        for (let now = 0; now <= 200; now++) {
          // What is due at this moment counts before somebody looks again.
          const mature = () => {
            if (!counts && last === 'holds' && now - since >= holdMs) {
              counts = true
              expected.push([now, 0])
            }
          }
          if (now > since) mature()
          while (looks[i]?.[0] === now) {
            last = looks[i++]![2]
            if (last === 'over') [since, counts] = [Number.NaN, false]
            else if (last === 'between' && !counts) since = Number.NaN
            else if (last === 'holds' && Number.isNaN(since)) since = now
            mature()
          }
        }
        expect(run(holdMs, looks, 200).begun).toEqual(expected)
      }),
    )
  })
})
