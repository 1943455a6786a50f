import fc from 'fast-check'
import { expect, it } from 'vitest'
import { Pages, type Told, type WrittenPages } from './pages'

const run = fc.record({
  reads: fc.integer({ min: 1, max: 5 }),
  counts: fc.array(fc.nat({ max: 30 }), { maxLength: 12 }),
  size: fc.integer({ min: 1, max: 9 }),
  more: fc.nat({ max: 6 }),
})

it.each([
  ['moves on with each page', true],
  ['moves on with full pages only', false],
])('whoever goes on from what is written counts each once, whatever was counted before: a server that %s', (_, always) => {
  fc.assert(
    fc.property(fc.array(run, { minLength: 1, maxLength: 12 }), fc.boolean(), (runs, twice) => {
      const counted: number[] = []
      let total = 0
      let written: WrittenPages | undefined
      const size = runs[0]!.size
      const all = Array.from({ length: 200 }, () => 0)
      for (const r of [...runs, { reads: 200, counts: all, size, more: 0 }]) {
        const pages = new Pages(written)
        const waiting: { told: Told; n: number }[] = []
        for (let i = 0; i < r.reads; i++) {
          total += i === 0 ? r.more : 0
          const from = Number(pages.cursor || 0)
          // Pages that stay until they are full are as large each time.
          const most = always ? r.size : size
          const count = Math.min(most, total - from)
          const keys = Array.from({ length: count }, (__, k) => (twice ? (from + k) >> 1 : from + k))
          for (const [k, told] of pages.took(keys).entries()) if (told) waiting.push({ told, n: keys[k]! })
          if (always || count === most) pages.next(String(from + count))
        }
        for (const at of r.counts) {
          const [one] = waiting.splice(at % Math.max(1, waiting.length), 1)
          if (!one) break
          pages.counts(one.told)
          counted.push(one.n)
        }
        // What was not counted comes again.
        written = JSON.parse(JSON.stringify(pages.written())) as WrittenPages
      }
      expect(counted.sort((a, b) => a - b)).toEqual(Array.from({ length: total }, (__, n) => (twice ? n >> 1 : n)))
    }),
    { numRuns: 300 },
  )
})

it('who was counted and is gone when the end is found is not waited for', () => {
  const pages = new Pages(['4', [7, 7, 9]])
  expect(pages.took([9])).toEqual([null])
  pages.atEnd()
  expect(pages.took([9, 7])).toEqual([null, expect.objectContaining({ who: 7 })])
  expect(pages.written()).toEqual(['4', [9]])
})
