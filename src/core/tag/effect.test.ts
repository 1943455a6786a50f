import { describe, expect, it } from 'vitest'
import { changesBeyond, keptADay, rawOf } from './effect'

const steps = Array.from({ length: 120 }, (_, i) => i)

describe('what a property does to readings', () => {
  it('counts what differs from the last that counted, not from the one before', () => {
    expect(changesBeyond([0, 0.4, 0.8, 1.2, null, 1.3, 5], 1)).toBe(3)
    expect(changesBeyond([0, 0, 0, 1], 0)).toBe(2)
    expect(changesBeyond([], 1)).toBe(0)
  })
  it('a slow drift below the deadband is not lost', () => expect(changesBeyond(steps, 9.5)).toBe(12))
  it.each([
    ['each change', { width: 0, minMs: 0, maxMs: 0 }, 17_280],
    ['not more often than a minute', { width: 0, minMs: 60_000, maxMs: 0 }, 1440],
    ['beyond any change, but once in two minutes', { width: 1000, minMs: 0, maxMs: 120_000 }, 720],
    ['never again', { width: 1000, minMs: 0, maxMs: 0 }, 144],
  ])('values a day: %s', (_what, rule, count) => expect(keptADay(steps, 5000, rule)).toBe(count))
  it('of few readings nothing is said', () => expect(keptADay([1, null, 2], 5000, { width: 0, minMs: 0, maxMs: 0 })).toBe(null))
  it('the raw value is worked back, and held ends say that it may be further out', () => {
    const scaling = { rawLow: 0, rawHigh: 27_648, low: 0, high: 10, clamp: true }
    expect(rawOf(scaling, 5)).toEqual({ raw: 13_824, beyond: false })
    expect(rawOf(scaling, 10)).toEqual({ raw: 27_648, beyond: true })
    expect(rawOf({ ...scaling, clamp: false }, 20)).toEqual({ raw: 55_296, beyond: false })
  })
})
