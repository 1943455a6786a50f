import fc from 'fast-check'
import { expect, it } from 'vitest'
import { Reading } from './reading'

it('whoever goes on from what is written gets again what was not counted, and nothing that was', () => {
  const step = fc.record({ come: fc.nat(6), count: fc.array(fc.nat(30), { maxLength: 8 }), again: fc.boolean() })
  fc.assert(
    fc.property(fc.array(step, { maxLength: 25 }), (steps) => {
      let reading = new Reading(1, [0, []])
      let end = 0
      const counted = new Set<number>()
      let open: number[] = []
      const read = () => {
        for (let offset = reading.next; offset < end; offset++) {
          if (!reading.sees(offset)) {
            expect(counted.has(offset)).toBe(true)
            continue
          }
          expect(counted.has(offset)).toBe(false)
          open.push(offset)
        }
      }
      for (const { come, count, again } of steps) {
        end += come
        read()
        // Counted in any order, as their messages turn up.
        for (const n of count) {
          const offset = open[n % Math.max(1, open.length)]
          if (offset === undefined) continue
          reading.counts(offset)
          counted.add(offset)
          open = open.filter((o) => o !== offset)
        }
        if (!again) continue
        const lost = open
        open = []
        reading = new Reading(1, JSON.parse(JSON.stringify(reading.written())))
        read()
        expect(open).toEqual(lost)
      }
      expect(counted.size + open.length).toBe(end)
      const [next, behind] = reading.written()
      expect(next).toBe(open[0] ?? end)
      expect(behind.length).toBeLessThanOrEqual(end - next)
    }),
    { numRuns: 500 },
  )
})

it('passes over what is handed out from before, and over what is gone', () => {
  const reading = new Reading(1, [10, [12]])
  expect([8, 9, 10, 11, 12, 13].map((offset) => reading.sees(offset))).toEqual([false, false, true, true, false, true])
  reading.jump(50)
  expect(reading.next).toBe(50)
  reading.counts(10)
  reading.counts(11)
  reading.counts(13)
  expect(reading.written()).toEqual([50, []])
})
