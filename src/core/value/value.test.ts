import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { conform, displayValue } from './datatype'
import { deadbandWidth, isChange } from './deadband'
import { qualityOf, qualityText, reasonOf } from './quality'

describe('deadband', () => {
  it.each([
    [null, { low: 0, high: 10 }, 0],
    [{ kind: 'absolute', size: 0.5 }, null, 0.5],
    [{ kind: 'percent', size: 2 }, { low: 0, high: 1300 }, 26],
    [{ kind: 'percent', size: 10 }, { low: -50, high: 50 }, 10],
    [{ kind: 'percent', size: 1 }, null, 0],
  ] as const)('%j of %j is %s wide', (d, range, width) => expect(deadbandWidth(d, range)).toBe(width))

  it('counts a number as changed only beyond its width, and every difference when it is zero', () => {
    fc.assert(
      fc.property(
        fc.double({ noNaN: true, noDefaultInfinity: true }),
        fc.double({ noNaN: true, noDefaultInfinity: true }),
        fc.double({ min: 0, max: 100, noNaN: true }),
        (a, b, w) => {
          expect(isChange(a, b, w)).toBe(w === 0 ? a !== b : Math.abs(b - a) > w)
        },
      ),
    )
  })

  it.each([
    ['a', 'b', true],
    ['a', 'a', false],
    [true, false, true],
    [null, 0, true],
    [null, null, false],
    [Number.NaN, Number.NaN, false],
    [Number.NaN, 1, true],
    ['1', 1, true],
  ])('from %s to %s: %s', (a, b, changed) => expect(isChange(a, b, 5)).toBe(changed))
})

describe('quality', () => {
  it.each([
    [0, 'good', 'good'],
    [0x808c0000, 'bad', 'bad: sensor fault'],
    [0x408f0000, 'uncertain', 'uncertain: last usable value'],
    [0x80310000, 'bad', 'bad: no communication'],
    [0x80990000, 'bad', 'bad: status 0x80990000'],
  ])('%s is %s', (status, quality, text) => {
    expect(qualityOf(status)).toBe(quality)
    expect(qualityText(status)).toBe(text)
  })

  it('reads the reason from the upper half alone, the lower carries flags', () => {
    expect(reasonOf(0x808c0480)).toBe('sensor fault')
  })
})

describe('data types', () => {
  it.each([
    [1, 'boolean', true],
    ['x', 'boolean', null],
    [3.9, 'integer', 3],
    [12n, 'integer', 12],
    ['12', 'integer', null],
    [true, 'number', 1],
    [5, 'text', '5'],
    [new Date(0), 'time', '1970-01-01T00:00:00.000Z'],
    [undefined, 'number', null],
  ] as const)('%s as %s is %s', (value, type, out) => expect(conform(value, type)).toBe(out))

  it.each([
    [1048.63, '1048.6'],
    [24.618, '24.62'],
    [6.21, '6.210'],
    [182, '182'],
    [true, 'true'],
    [null, '-'],
    [0.000012, '0.000012000'],
  ])('%s is shown as %s', (value, text) => expect(displayValue(value)).toBe(text))

  it('whole numbers of a tag with fractions show theirs', () => {
    expect([349, 12, 0, true].map((v) => displayValue(v, true))).toEqual(['349.0', '12.00', '0.000', 'true'])
  })
})
