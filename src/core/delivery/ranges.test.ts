import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { RangeSet, RangeSyntaxError } from './ranges'

const edit = fc.record({ add: fc.boolean(), n: fc.integer({ min: 0, max: 60 }) })

describe('a set of numbers kept as runs', () => {
  it('agrees with a plain set after any adds and deletes', () => {
    fc.assert(
      fc.property(fc.array(edit, { maxLength: 200 }), (edits) => {
        const ranges = new RangeSet()
        const plain = new Set<number>()
        for (const { add, n } of edits) {
          if (add) {
            expect(ranges.add(n)).toBe(!plain.has(n))
            plain.add(n)
          } else expect(ranges.delete(n)).toBe(plain.delete(n))
        }
        expect(ranges.count).toBe(plain.size)
        for (let n = 0; n <= 60; n++) expect(ranges.has(n)).toBe(plain.has(n))
        expect([...ranges].flatMap(([a, b]) => Array.from({ length: b - a + 1 }, (_, i) => a + i))).toEqual([...plain].sort((a, b) => a - b))
      }),
    )
  })

  it('reads back what it writes, and keeps runs apart that do not touch', () => {
    fc.assert(
      fc.property(fc.uniqueArray(fc.integer({ min: 0, max: 300 })), (numbers) => {
        const ranges = new RangeSet()
        for (const n of numbers) ranges.add(n)
        const again = RangeSet.parse(ranges.toString())
        expect(again.toString()).toBe(ranges.toString())
        expect(again.count).toBe(numbers.length)
        const runs = [...again]
        for (let i = 1; i < runs.length; i++) expect(runs[i]![0]).toBeGreaterThan(runs[i - 1]![1] + 1)
      }),
    )
  })

  it('gives the part between two numbers, and puts parts together again', () => {
    fc.assert(
      fc.property(fc.uniqueArray(fc.integer({ min: 0, max: 300 })), fc.integer({ min: 1, max: 70 }), (numbers, width) => {
        const ranges = new RangeSet()
        for (const n of numbers) ranges.add(n)
        const again = new RangeSet()
        for (let first = 0; first <= 300; first += width) {
          const part = RangeSet.parse(ranges.within(first, first + width - 1))
          for (const [a, b] of part) {
            expect(a >= first && b < first + width).toBe(true)
            again.append(a, b)
          }
        }
        expect(again).toEqual(ranges)
      }),
    )
    expect(() => RangeSet.parse('{[3,6)}').append(5, 9)).toThrow(RangeError)
  })

  it('takes one run for a million numbers in order', () => {
    const ranges = new RangeSet()
    for (let n = 1; n <= 1_000_000; n++) ranges.add(n)
    expect(ranges.runs).toBe(1)
    expect(ranges.toString()).toBe('{[1,1000001)}')
  })

  it.each(['', '{', '{[1,2]}', '{[5,3)}', '{[1,4),[3,6)}', '{[1,2),[2,3)}'])('refuses %j', (text) => {
    expect(() => RangeSet.parse(text)).toThrow(RangeSyntaxError)
  })
})
