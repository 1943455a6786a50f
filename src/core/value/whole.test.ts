import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { conform } from './datatype'
import { isChange } from './deadband'
import { exactJson, parseExact, parseGuarded } from './exact-json'
import { formatValue } from './format'
import { whole, wholeFromText, wholeOf } from './whole'
import { fromWire, toWire } from './wire'
import { typedValue, writeProblem } from './writing'

const int64 = fc.bigInt({ min: -(2n ** 63n), max: 2n ** 64n - 1n })
const MOST = 2n ** 63n - 1n

describe('whole numbers of 64 bits', () => {
  it('have one form, over the line, from text, and as the type integer', () => {
    fc.assert(
      fc.property(int64, (n) => {
        const held = whole(n)
        expect(typeof held).toBe(Number.isSafeInteger(Number(n)) && BigInt(Number(n)) === n ? 'number' : 'bigint')
        expect(fromWire(JSON.parse(JSON.stringify(toWire(held))))).toBe(held)
        expect([wholeFromText(String(n)), conform(n, 'integer'), typedValue(` ${n} `, 'integer'), wholeOf(held)]).toEqual([held, held, held, held])
      }),
    )
  })

  it('end at 64 bits', () => {
    expect([wholeOf(2n ** 64n), wholeOf(-(2n ** 63n) - 1n), wholeOf(1e20), wholeOf(Number.NaN), wholeFromText('123456789012345678901')]).toEqual([
      null,
      null,
      null,
      null,
      null,
    ])
    expect(wholeOf(2 ** 60)).toBe(2n ** 60n)
  })

  it('change by one, and by less than a deadband not at all', () => {
    expect(isChange(MOST, MOST - 1n, 0)).toBe(true)
    expect(isChange(MOST, MOST, 0)).toBe(false)
    expect(isChange(MOST, MOST - 5n, 5)).toBe(false)
    expect(isChange(MOST, MOST - 6n, 5)).toBe(true)
    expect(isChange(2 ** 53 - 1, 2n ** 53n, 1)).toBe(false)
    expect(isChange(null, MOST, 1e30)).toBe(true)
  })

  it.each([
    ['', '9223372036854775807'],
    ['#,##0', '9,223,372,036,854,775,807'],
    ['0.0', '9223372036854775807.0'],
    ['hex16', '7FFFFFFFFFFFFFFF'],
    ['0.00E0', '9.22E18'],
  ])('are shown by %j as %s', (format, text) => expect(formatValue(MOST, { format, dataType: 'integer' })).toBe(text))

  it('are written by hand to the last digit', () => {
    const tag = { access: 'read-write', dataType: 'integer', range: null, unit: '', simulated: false } as const
    expect(writeProblem(tag, typedValue('9223372036854775807', 'integer'))).toBeNull()
    expect(writeProblem(tag, typedValue('98765432109876543210', 'integer'))).toContain('2^64 - 1')
    expect(writeProblem({ ...tag, range: { low: 0, high: 10 } }, MOST)).toContain('From 0 to 10')
  })
})

describe('JSON that keeps digits', () => {
  it('gives back what was written, whatever texts there are beside', () => {
    const leaf = fc.oneof(int64.map(whole), fc.string(), fc.constantFrom('\u0001whole:5', '\u0001text:x', '\u0001', '9007199254740993'), fc.boolean())
    const tree = fc.dictionary(fc.oneof(fc.string(), fc.constant('\u0001whole:1')), fc.oneof(leaf, fc.array(leaf)))
    fc.assert(
      fc.property(tree, (t) => {
        expect(parseExact(exactJson(t))).toEqual(t)
        expect(parseExact(exactJson(t, 1))).toEqual(t)
      }),
    )
  })

  it('leaves fractions and exponents to doubles, and says where it is none', () => {
    expect(parseExact('[9007199254740993.5, 1e400, 12345678901234567E0, 1234567890123456]')).toEqual([
      9007199254740994,
      Number.POSITIVE_INFINITY,
      12345678901234568,
      1234567890123456,
    ])
    expect(parseGuarded('{"a": 12345678901234567890,}', 9)).toMatchObject({ problem: 'It is not JSON' })
    expect(parseGuarded('[[[1]]]', 2)).toMatchObject({ problem: 'It nests deeper than 2 levels', at: 2 })
  })
})
