import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { type Curve, deviationOf, spanOf, together } from './deviation'

describe('how far a rebuilt curve is from what it was', () => {
  const truth: Curve = [
    [0, 10],
    [10, 20],
    [30, 12],
  ]
  it.each<[string, Curve, number, number]>([
    ['the same', truth, 0, 0],
    [
      'one value missing',
      [
        [0, 10],
        [30, 12],
      ],
      10,
      Math.sqrt((100 * 20) / 40),
    ],
    ['nothing told: it is right until it is told', [], 0, 0],
    [
      'told late',
      [
        [0, 10],
        [20, 20],
        [30, 12],
      ],
      10,
      Math.sqrt((100 * 10) / 40),
    ],
    [
      'another value',
      [
        [0, 11],
        [10, 21],
        [30, 13],
      ],
      1,
      1,
    ],
  ])('%s', (_, rebuilt, most, rms) => {
    const d = deviationOf(truth, rebuilt, 0, 40)!
    expect(d.most).toBeCloseTo(most, 9)
    expect(d.rms).toBeCloseTo(rms, 9)
  })
  it('what was before the span is known in it', () => {
    expect(deviationOf([[-50, 5]], [[-40, 6]], 0, 10)).toEqual({ most: 1, rms: 1 })
  })
  it('there has to be a span, and something in it', () => {
    expect(deviationOf([], [[0, 1]], 0, 10)).toBeNull()
    expect(deviationOf(truth, truth, 10, 10)).toBeNull()
    expect(deviationOf([[20, 1]], [], 0, 10)).toBeNull()
  })
  it('is what comparing them ms by ms gives (500 random ones)', () => {
    const curve = fc
      .uniqueArray(fc.integer({ min: -20, max: 120 }), { maxLength: 12 })
      .chain((ats) => fc.tuple(...ats.sort((a, b) => a - b).map((at) => fc.tuple(fc.constant(at), fc.integer({ min: -50, max: 50 })))))
    const at = (c: Curve, t: number) => c.filter(([when]) => when <= t).at(-1)?.[1] ?? null
    fc.assert(
      fc.property(curve, curve, (a, b) => {
        let most = 0
        let squares = 0
        let n = 0
        for (let t = 0; t < 100; t++) {
          const is = at(a, t)
          if (is === null) continue
          const d = Math.abs((at(b, t) ?? is) - is)
          most = Math.max(most, d)
          squares += d * d
          n++
        }
        const d = deviationOf(a, b, 0, 100)
        if (n === 0) {
          expect(d).toBeNull()
          return
        }
        expect(d!.most).toBe(most)
        expect(d!.rms).toBeCloseTo(Math.sqrt(squares / n), 9)
      }),
      { numRuns: 500 },
    )
  })
  it('all together, by what each of them moved; what never moved is left out', () => {
    const one = { name: 'a', unit: '', most: 2, rms: 1, span: 10 }
    expect(together([one, { ...one, most: 0, rms: 0, span: 0 }])).toEqual({ most: 0.2, rms: 0.1 })
    expect(together([one, { ...one, most: 5, rms: 0 }])!.most).toBe(0.5)
    expect(together([{ ...one, span: 0 }])).toBeNull()
    expect(
      spanOf([
        [0, 3],
        [1, -4],
        [2, 1],
      ]),
    ).toBe(7)
  })
})
