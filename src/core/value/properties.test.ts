import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { formatValue, parseFormat } from './format'
import { scale, slope, unscale } from './scaling'
import { unitOf, units } from './unit'

const line = { rawLow: 4000, rawHigh: 20_000, low: 0, high: 250, clamp: false }

describe('scaling', () => {
  it.each([
    [4000, 0, false],
    [20_000, 250, false],
    [12_000, 125, false],
    [3999, -0.015625, true],
    [36_000, 500, true],
    [0, -62.5, true],
  ])('raw %s is %s', (raw, value, beyond) => expect(scale(line, raw)).toEqual({ value, beyond }))

  it.each([
    [4000, 0, false],
    [3999.999, 0, true],
    [-32_768, 0, true],
    [20_000, 250, false],
    [20_000.001, 250, true],
    [Number.POSITIVE_INFINITY, 250, true],
    [Number.NEGATIVE_INFINITY, 0, true],
  ])('clamped, raw %s is %s', (raw, value, beyond) => expect(scale({ ...line, clamp: true }, raw)).toEqual({ value, beyond }))

  it('may turn the direction round', () => {
    const turned = { rawLow: 0, rawHigh: 100, low: 50, high: -50, clamp: true }
    expect(scale(turned, 75)).toEqual({ value: -25, beyond: false })
    expect(scale(turned, 101)).toEqual({ value: -50, beyond: true })
    expect(scale(turned, -1)).toEqual({ value: 50, beyond: true })
    expect(scale({ ...turned, rawLow: 100, rawHigh: 0 }, 101)).toEqual({ value: 50, beyond: true })
    expect(slope(turned)).toBe(1)
  })

  it('keeps what is no number', () => expect(scale({ ...line, clamp: true }, Number.NaN).value).toBeNaN())

  it('the way back meets the way there', () => {
    const n = fc.double({ min: -1e6, max: 1e6, noNaN: true })
    fc.assert(
      fc.property(n, n, n, n, fc.double({ min: -2, max: 3, noNaN: true }), (rawLow, rawHigh, low, high, share) => {
        fc.pre(Math.abs(rawHigh - rawLow) > 1e-3 && Math.abs(high - low) > 1e-3)
        const s = { rawLow, rawHigh, low, high, clamp: false }
        expect(scale(s, rawLow).value).toBe(low)
        expect(scale(s, rawHigh).value).toBe(high)
        expect(unscale(s, low)).toBe(rawLow)
        expect(unscale(s, high)).toBe(rawHigh)
        const raw = rawLow + share * (rawHigh - rawLow)
        const size = Math.max(Math.abs(rawLow), Math.abs(rawHigh), Math.abs(raw))
        const magnify = Math.max(1, Math.max(Math.abs(low), Math.abs(high)) / Math.abs(high - low))
        expect(Math.abs(unscale(s, scale(s, raw).value) - raw)).toBeLessThanOrEqual(1e-9 * size * magnify)
      }),
    )
  })
})

describe('display format', () => {
  it.each([
    ['0', 3.5, '4'],
    ['0.00', 3.14559, '3.15'],
    ['0.0##', 3.1, '3.1'],
    ['0.0##', 3.14559, '3.146'],
    ['0.##', 3, '3'],
    ['#,##0.0', 1234567.89, '1,234,567.9'],
    ['#,##0', -1234, '-1,234'],
    ['000.0', -7.25, '-007.3'],
    ['0.0', -0.04, '0.0'],
    ['0.00E0', 123456, '1.23E5'],
    ['0.0#E00', 0.00012, '1.2E-04'],
    ['0.00', Number.NaN, 'NaN'],
    ['hex4', 255, '00FF'],
    ['hex', -1, '-1.000'],
    ['closed|open', true, 'open'],
    ['closed|open', false, 'closed'],
    ['0.00', 'text', 'text'],
    ['0.00', null, '-'],
    ['', 3.14559, '3.146'],
  ])('%s shows %s as %s', (format, value, text) => expect(formatValue(value, { format, dataType: 'number' })).toBe(text))

  it.each(['abc', '0.', '#', '0,0', '|open', 'a|b|c', '0.0000000000000', 'E0'])('%s is refused with a reason', (text) =>
    expect(parseFormat(text)).toHaveProperty('problem'),
  )
})

describe('units', () => {
  it('no symbol and no code stands for two units', () => {
    for (const key of ['symbol', 'ucum', 'cefact'] as const) {
      const all = units.flatMap((u) => u[key] ?? [])
      expect(all.filter((k, i) => all.indexOf(k) !== i)).toEqual([])
    }
    for (const u of units) expect(unitOf(u.symbol)).toBe(u)
  })

  it.each([
    ['CEL', '°C'],
    ['Cel', '°C'],
    ['degC', '°C'],
    ['kW.h', 'kWh'],
    ['MQH', 'm³/h'],
    ['m3/h', 'm³/h'],
    [' bar ', 'bar'],
  ])('%s is %s', (text, symbol) => expect(unitOf(text)?.symbol).toBe(symbol))
  it('what is not in the list is not made up', () => expect(unitOf('furlong')).toBeUndefined())
})
