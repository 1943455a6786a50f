import fc from 'fast-check'
import { expect, it } from 'vitest'
import { Histogram } from './histogram'

it('finds quantiles within five per cent of the true ones', () => {
  fc.assert(
    fc.property(
      fc.array(fc.double({ min: 0.2, max: 100_000, noNaN: true }), { minLength: 1, maxLength: 300 }),
      fc.constantFrom(0.5, 0.95, 0.99),
      (all, q) => {
        const h = new Histogram()
        for (const ms of all) h.add(ms)
        const truth = [...all].sort((a, b) => a - b)[Math.max(1, Math.ceil(q * all.length)) - 1]!
        expect(Math.abs(h.quantile(q)! / truth - 1)).toBeLessThan(0.05)
      },
    ),
  )
})

it('merges, and reads back what it writes', () => {
  fc.assert(
    fc.property(fc.array(fc.double({ min: -10, max: 1e9, noNaN: true })), fc.array(fc.double({ min: 0, max: 1e6, noNaN: true })), (a, b) => {
      const one = new Histogram()
      const two = new Histogram()
      const both = new Histogram()
      for (const ms of a) one.add(ms)
      for (const ms of b) two.add(ms)
      for (const ms of [...a, ...b]) both.add(ms)
      one.merge(Histogram.decode(two.encode()))
      expect(one.count).toBe(a.length + b.length)
      expect(one.encode()).toEqual(both.encode())
    }),
  )
})

it('knows nothing when empty, and counts a clock that runs backwards as the lowest', () => {
  const h = new Histogram()
  expect(h.quantile(0.5)).toBeNull()
  expect(h.bars()).toEqual([])
  h.add(-500)
  expect(h.quantile(0.5)).toBe(0.125)
})
