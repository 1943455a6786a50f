import { expect, it } from 'vitest'
import { Flaps } from './flaps'

it('tells the first loss at once, and those of the next minute as one', () => {
  const flaps = new Flaps()
  expect(flaps.lost(0)).toEqual({ more: 0 })
  expect(flaps.lost(1_000)).toBeNull()
  expect(flaps.lost(59_999)).toBeNull()
  expect(flaps.lost(60_000)).toEqual({ more: 2 })
  expect(flaps.lost(200_000)).toEqual({ more: 0 })
})
