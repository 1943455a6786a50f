import { describe, expect, it } from 'vitest'
import { chained, conversion, conversionText } from './convert'
import { units } from './unit'

describe('converting units', () => {
  it.each([
    ['°C', '°F', 100, 212],
    ['°F', '°C', 32, 0],
    ['K', '°C', 273.15, 0],
    ['bar', 'kPa', 2, 200],
    ['mbar', 'Pa', 3, 300],
    ['psi', 'bar', 14.503773773, 1],
    ['m³/h', 'l/min', 6, 100],
    ['kWh', 'MJ', 1, 3.6],
    ['t/h', 'kg/s', 3.6, 1],
    ['%', 'ppm', 1, 10000],
    ['m/min', 'm/s', 60, 1],
    ['h', 's', 2, 7200],
    ['mA', 'A', 20, 0.02],
    ['1/min', '1/min', 7, 7],
    ['degC', '°C', 7, 7],
  ])('%s to %s: %d is %d', (from, to, value, wanted) => {
    const c = conversion(from, to)!
    expect(value * c.factor + c.offset).toBeCloseTo(wanted, 6)
  })

  it.each([
    ['°C', 'bar'],
    ['kW', 'kVA'],
    ['J', 'Nm'],
    ['pcs', 'kg'],
    ['%', ''],
    ['bricks', 'kg'],
    ['pH', 'V'],
  ])('%s and %s do not measure the same', (from, to) => expect(conversion(from, to)).toBeNull())

  it('goes there and back for every unit of one quantity', () => {
    for (const a of units)
      for (const b of units) {
        if (a.quantity !== b.quantity || a.quantity === 'number') continue
        const there = conversion(a.symbol, b.symbol)
        const back = conversion(b.symbol, a.symbol)
        if (!there || !back) throw new Error(`${a.symbol} to ${b.symbol} is not known`)
        const round = chained(there, back)
        expect(round.factor, `${a.symbol} ${b.symbol}`).toBeCloseTo(1, 9)
        expect(Math.abs(round.offset), `${a.symbol} ${b.symbol}`).toBeLessThan(1e-9)
      }
  })

  it('is told in words', () => {
    expect(conversionText(conversion('°C', '°F')!)).toBe('× 1.8 + 32')
    expect(conversionText(conversion('mbar', 'bar')!)).toBe('÷ 1000')
    expect(conversionText(conversion('K', '°C')!)).toBe('− 273.15')
    expect(conversionText(conversion('bar', 'bar')!)).toBe('')
  })
})
