import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { OctetError } from '../shape/octets'
import { BlockMaker, type Moment, readBlock } from './block'

const made = (moments: readonly Moment[]) => {
  const block = new BlockMaker()
  for (const m of moments) {
    block.begin(m.at, m.came)
    for (const [i, h] of m.handles.entries()) block.add(h, m.values[i]!, m.statuses[i]!, m.times[i]!)
  }
  return block
}
const all = () => true
const moment = (at: number, samples: [handle: number, value: Moment['values'][number], status?: number, time?: number][], came = true): Moment => ({
  at,
  came,
  handles: samples.map(([h]) => h),
  values: samples.map(([, v]) => v),
  statuses: samples.map(([, , s = 0]) => s),
  times: samples.map(([, , , t = at]) => t),
})
/** Samples of a moment by handle: within a moment they come back in the order of handles. */
const sorted = (m: Moment) => ({
  ...m,
  samples: m.handles.map((h, i) => [h, m.values[i], m.statuses[i], m.times[i]] as const).sort((a, b) => a[0] - b[0]),
  handles: [],
  values: [],
  statuses: [],
  times: [],
})

describe('a block of what tags held', () => {
  it('gives back moments as they were', () => {
    const moments = [
      moment(1_700_000_000_000, [
        [3, 1.5],
        [1, 'öfen'],
        [70_000, true],
      ]),
      moment(1_700_000_000_004, [[3, 1.5, 0x80000000]], false),
      moment(1_700_000_000_004, [
        [3, null, 0x80050000, 1_600_000_000_000],
        [1, 'a\ud800b'],
      ]),
      // The clock was set back.
      moment(1_699_999_000_000, [
        [70_000, 2n ** 70n],
        [3, -12],
      ]),
      moment(1_699_999_000_001, [[3, -0]]),
    ]
    expect(readBlock(made(moments).write(), all).map(sorted)).toEqual(moments.map(sorted))
  })
  it('gives some tags only, and no moment without them', () => {
    const block = made([
      moment(10, [[1, 5]]),
      moment(20, [[2, 6]]),
      moment(30, [
        [1, 7],
        [2, 8],
      ]),
    ]).write()
    expect(readBlock(block, (h) => h === 2)).toEqual([moment(20, [[2, 6]]), moment(30, [[2, 8]])])
  })
  it('an empty one holds nothing', () => {
    expect(readBlock(new BlockMaker().write(), all)).toEqual([])
  })
  it('is whatever was put in (1,000 random ones)', () => {
    const value = fc.oneof(
      fc.double(),
      fc.integer(),
      fc.maxSafeInteger(),
      fc.float(),
      fc.boolean(),
      fc.constant(null),
      fc.bigInt(),
      fc.string({ unit: 'binary' }),
      fc.constantFrom('', '\ud800', 'x\udfff', 0, -0, Number.NaN, Infinity, -Infinity),
    )
    const one = fc.record({
      step: fc.integer({ min: -5_000_000, max: 5_000_000 }),
      came: fc.boolean(),
      samples: fc.uniqueArray(
        fc.tuple(fc.integer({ min: 0, max: 200_000 }), value, fc.integer({ min: 0, max: 0xffffffff }), fc.integer({ min: 0, max: 4e12 })),
        { selector: ([h]) => h, minLength: 1, maxLength: 8 },
      ),
    })
    fc.assert(
      fc.property(fc.array(one, { maxLength: 20 }), (steps) => {
        let at = 1_700_000_000_000
        const moments = steps.map(({ step, came, samples }) => moment((at += step), samples, came))
        expect(readBlock(made(moments).write(), all).map(sorted)).toEqual(moments.map(sorted))
      }),
      { numRuns: 1000 },
    )
  })
  it('one that is damaged is refused, never read as something else and never for long (every octet, cut and altered)', () => {
    const whole = made([
      moment(1000, [
        [1, 5.25],
        [2, 'text'],
        [9, 2n ** 80n],
      ]),
      moment(1500, [
        [1, 6],
        [2, 'text', 3],
      ]),
    ]).write()
    for (let i = 0; i < whole.length; i++) {
      expect(() => readBlock(whole.subarray(0, i), all)).toThrow(OctetError)
      for (const alter of [0, 0x7f, 0x80, 0xff]) {
        const other = Uint8Array.from(whole, (b, at) => (at === i ? alter : b))
        try {
          readBlock(other, all)
        } catch (e) {
          expect(e).toBeInstanceOf(OctetError)
        }
      }
    }
  })
  it('takes few octets for what changes little', () => {
    const block = new BlockMaker()
    for (let n = 0; n < 1000; n++) {
      block.begin(1_700_000_000_000 + n * 1000, true)
      for (let h = 0; h < 20; h++) block.add(h, h % 2 ? 20 + ((n * 7 + h) % 50) / 4 : n, 0, 1_700_000_000_000 + n * 1000 - 12)
    }
    expect(block.samples).toBe(20_000)
    expect(block.write().length / block.samples).toBeLessThan(6.5)
  })
})
