import { expect, it } from 'vitest'
import { StallWatch } from './stall-watch'

/** `n` deliveries come and are then all acknowledged; whether the broker was seen to wait. */
function batch(watch: StallWatch, n: number): boolean {
  let waits = false
  for (let i = 1; i <= n; i++) waits = watch.came(i)
  for (let i = n; i > 0; i--) watch.acknowledged(i)
  return waits
}

it('takes a number that came three times in a row for the broker’s bound', () => {
  const watch = new StallWatch()
  expect([batch(watch, 20), batch(watch, 20), batch(watch, 20)]).toEqual([false, false, false])
  expect(batch(watch, 19)).toBe(false)
  expect(batch(watch, 20)).toBe(true)
})

it('learns nothing from numbers that vary, and forgets a bound that was passed', () => {
  const watch = new StallWatch()
  for (const n of [20, 20, 7, 20, 20]) expect(batch(watch, n)).toBe(false)
  batch(watch, 20)
  expect(batch(watch, 20)).toBe(true)
  expect(batch(watch, 25)).toBe(false)
  expect(batch(watch, 20)).toBe(false)
})
