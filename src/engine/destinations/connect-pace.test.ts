import fc from 'fast-check'
import { expect, it } from 'vitest'
import { ConnectPace } from './connect-pace'

it('never lets more connect within any minute than it may, and none wait longer than it must', () => {
  fc.assert(
    fc.property(fc.integer({ min: 1, max: 20 }), fc.array(fc.integer({ min: 0, max: 20_000 }), { maxLength: 200 }), (most, gaps) => {
      const pace = new ConnectPace()
      const went: number[] = []
      let now = 0
      for (const gap of gaps) {
        now += gap
        const wait = pace.wait(now, most)
        if (wait > 0) {
          expect(went.filter((at) => at > now - 60_000).length).toBe(most)
          now += wait
          expect(pace.wait(now, most)).toBe(0)
        }
        went.push(now)
        expect(went.filter((at) => at > now - 60_000).length).toBeLessThanOrEqual(most)
      }
    }),
  )
})

it('lets everybody connect where nobody counts, also when that is changed on the way', () => {
  const pace = new ConnectPace()
  for (let i = 0; i < 100; i++) expect(pace.wait(i, 0)).toBe(0)
  expect([pace.wait(100, 2), pace.wait(101, 2), pace.wait(102, 2)]).toEqual([0, 0, 59_998])
  expect(pace.wait(102, 3)).toBe(0)
  expect(pace.wait(103, 2)).toBe(59_998)
})
