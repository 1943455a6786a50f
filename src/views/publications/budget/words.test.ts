import { describe, expect, it } from 'vitest'
import { aDay, aMonth, costText, lostText, octetsOf } from './words'

describe('a budget in words', () => {
  it('goes from a span to a day and a month', () => {
    expect(aDay(100, { from: 0, to: 3_600_000 })).toBe(2400)
    expect(aDay(100, { from: 5, to: 5 })).toBe(0)
    expect(aMonth(2)).toBe(60)
  })
  it.each([
    [0, '0'],
    [0.00001, '< 0.01 %'],
    [0.00123, '0.12 %'],
    [0.0345, '3.5 %'],
    [0.127, '13 %'],
  ])('%d is lost: %s', (share, words) => {
    expect(lostText(share)).toBe(words)
  })
  it('counts both ways where that is known', () => {
    expect(octetsOf({ messages: 1, octets: 10, wire: { out: 40, back: 4 } })).toBe(44)
    expect(octetsOf({ messages: 1, octets: 10, wire: null })).toBe(10)
  })
  it('costs by the megabyte and month; nothing without a price', () => {
    expect(costText(1e6, 0.5)).toBe('15.00')
    expect(costText(1e6, 10)).toBe('300')
    expect(costText(1e6, 0)).toBe('')
    expect(costText(1e6, Number.NaN)).toBe('')
  })
})
