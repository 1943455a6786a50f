import { expect, it } from 'vitest'
import { Resting } from './resting'

it('a place rests longer each time it takes nothing, and no longer once it took something', () => {
  const r = new Resting()
  expect([r.none, r.rests('a', 0), r.due(0)]).toEqual([true, false, false])
  expect([r.rest('a', 0), r.rest('a', 500), r.rests('a', 999), r.rests('a', 1000), r.rests('b', 0)]).toEqual([1000, 0, true, false, false])
  let ms = 0
  for (let n = 0, now = 1000; n < 10; n++, now += ms) ms = r.rest('a', now)
  expect(ms).toBe(60_000)
  expect([r.took('b'), r.took('a'), r.none, r.rest('a', 1e9)]).toEqual([false, true, true, 1000])
})

it('what was passed by is due when its place has rested, and is begun again from the oldest', () => {
  const r = new Resting()
  r.rest('a', 0)
  expect(r.due(2000)).toBe(false)
  r.pass('a')
  r.pass('unknown')
  expect([r.due(999), r.due(1000), r.took('a'), r.full]).toEqual([false, true, false, false])
  // Nothing overtakes what was passed by.
  expect(r.rests('a', 5000)).toBe(true)
  r.again()
  expect(r.rests('a', 1000)).toBe(false)
  expect([r.due(1000), r.took('a'), r.none]).toEqual([false, true, true])
})

it('a place of which nothing is left rests no more: its messages went aside, or their publication is gone', () => {
  const r = new Resting()
  r.rest('a', 0)
  r.rest('b', 0)
  r.pass('a')
  expect([r.through(500), r.through(1000)]).toEqual([false, false])
  r.again()
  expect([r.through(1000), r.none, r.through(1000)]).toEqual([true, true, false])
})

it('passes by so many and no more', () => {
  const r = new Resting()
  r.rest('a', 0)
  for (let n = 0; n < 20_000; n++) r.pass('a')
  expect(r.full).toBe(true)
  r.again()
  expect(r.full).toBe(false)
})
