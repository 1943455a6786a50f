import fc from 'fast-check'
import { expect, it } from 'vitest'
import { headerTime, offsetMeaning, offsetOf } from './peer-time'

it('the true difference lies within what is told, wherever between question and answer the peer looked at its clock', () => {
  fc.assert(
    fc.property(
      fc.integer({ min: -100_000, max: 100_000 }),
      fc.nat(5000),
      fc.double({ min: 0, max: 1, noNaN: true }),
      fc.constantFrom(0, 1000),
      (ahead, tookMs, share, cutMs) => {
        const asked = 1_700_000_000_123
        const real = asked + share * tookMs + ahead
        const theirs = cutMs === 0 ? real : Math.floor(real / cutMs) * cutMs
        const { offsetMs, withinMs } = offsetOf({ theirs, asked, answered: asked + tookMs, cutMs, how: '' })
        expect(Math.abs(offsetMs - ahead)).toBeLessThanOrEqual(withinMs + 0.01)
      },
    ),
  )
})

it('a date header is read by whole seconds, and one that is none is nothing', () => {
  expect(headerTime('Mon, 30 Nov 2026 13:00:01 GMT')).toBe(Date.UTC(2026, 10, 30, 13, 0, 1))
  expect([headerTime(undefined), headerTime('soon')]).toEqual([null, null])
})

it.each([
  [40, 50, 'good'],
  [140, 50, 'good'],
  [-2000, 500, 'uncertain'],
  [3_600_000, 500, 'bad'],
  [700, 520, 'uncertain'],
] as const)('%d ms, known to %d', (offsetMs, withinMs, state) => {
  expect(offsetMeaning({ offsetMs, withinMs }).state).toBe(state)
})
