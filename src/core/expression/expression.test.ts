import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import type { DataType } from '~/contract/tag'
import type { Scalar } from '../value/deadband'
import { type Compiled, compileExpression, namesIn } from './compile'
import { expressionFunctions } from './functions'

const types: Record<string, DataType> = { x: 'number', y: 'number', n: 'integer', on: 'boolean', s: 'text', t: 'time' }
const values: Record<string, Scalar> = { x: 3, y: 4.5, n: 10, on: true, s: 'Clay-7', t: '2026-03-04T14:07:12.481Z' }
const names = Object.keys(types)
const compile = (text: string) =>
  compileExpression(
    text,
    names.map((name) => ({ name, dataType: types[name]! })),
  )
const good = (text: string): Compiled => {
  const c = compile(text)
  if (!('run' in c)) throw new Error(`${text}: ${c.message}`)
  return c
}
const value = (text: string) =>
  good(text).run(
    names.map((n) => values[n]!),
    1000,
  )

describe('expressions', () => {
  it.each([
    ['x * 2', 6],
    ['n * 2', 20],
    ['7 / 2', 3.5],
    ['n / 4', 2.5],
    ['7 % 2', 1],
    ['x + 1 == 4', true],
    ['x == 3 && on', true],
    ['on ? 1 : 2.5', 1],
    ['x in [1, 3]', true],
    ['[x, y, 1][1]', 4.5],
    ['[1, 2, 3].map(i, i * x).exists(i, i == 9)', true],
    ['size(s) * 1.5', 9],
    ['size(s) == 6', true],
    ['round(2.345, 2)', 2.35],
    ['round(-2.5)', -3],
    ['round(1.005, 2)', 1.01],
    ['min([x, y, 2]) + max(x, y)', 6.5],
    ['avg([1, 2, 6])', 3],
    ['sum([])', 0],
    ['bit(10, 1) && !bit(n, 0)', true],
    ['bits(182, 4, 3)', 3],
    ['bitAnd(12, 10) + bitOr(12, 10) + bitXor(12, 10)', 28],
    ['upper(s) + lower(s)', 'CLAY-7clay-7'],
    ["part(s, '-', 1)", '7'],
    ["double(part(s, '-', 1)) * 2", 14],
    ['s.substring(size(s) - 1)', '7'],
    ["s.startsWith('Clay')", true],
    ['fixed(x, 2)', '3.00'],
    ["convert(100, '°C', '°F')", 212],
    ['scale(13824, 0, 27648, 0, 100)', 50],
    ['clamp(x, 4, 9)', 4],
    ['t.getHours()', 14],
    ['epochMs(t) > 0', true],
    ['timeOf(0)', '1970-01-01T00:00:00.000Z'],
    ['now()', '1970-01-01T00:00:01.000Z'],
    ['pow(2, 10) + sqrt(16) + abs(-1)', 1029],
  ])('%s', (text, wanted) => expect(value(text)).toBe(wanted))

  it.each([
    ['x / 0', 'The result is infinite, as after a division by zero'],
    ['0 / (x - 3)', 'The result is no number, as after 0 / 0'],
    ['min([])', 'An empty list'],
    ['bit(1.5, 0)', '1.5 is no whole number, so it has no bits'],
    ["convert(x, '°C', 'bar')", '°C does not become bar'],
    ['[x][4]', null],
    ['double(s)', null],
  ])('%s has no answer, and says so', (text, wanted) => {
    const c = good(text)
    expect(
      c.run(
        names.map((n) => values[n]!),
        0,
      ),
    ).toBeNull()
    expect(c.problem).toBeTruthy()
    if (wanted) expect(c.problem).toContain(wanted)
  })

  it.each([
    ['x +', 'Something is missing at the end', 3],
    ['x + speed', 'speed is not known: pick what it stands for, or correct it', 4],
    ['s * 2', 'string * number does not work', 0],
    ['foo(x)', 'There is no foo(number)', 0],
    ['[x, y]', 'It gives a list, which is no single value', 0],
    ['rate(s)', 'rate() is of a number', 5],
    ['x > "a"', 'number > string does not work', 0],
  ])('%s is refused where it is wrong', (text, message, from) => {
    const c = compile(text)
    expect(c).toMatchObject({ message, from })
  })

  it.each([
    ['x * 2', 'number'],
    ['x > 2', 'boolean'],
    ['s + "!"', 'text'],
    ['now()', 'time'],
    ['size(s)', 'number'],
  ])('%s gives a %s', (text, type) => expect(good(text).dataType).toBe(type))

  it('remembers the value before and the rate, each expression for itself', () => {
    const one = good('previous(x)')
    const speed = good('rate(x)')
    const other = good('rate(x)')
    const at = (c: Compiled, x: number, ms: number) => c.run([x, 0, 0, false, '', '2026-01-01T00:00:00Z'], ms)
    expect([at(one, 5, 1000), at(one, 7, 2000), at(one, 8, 3000)]).toEqual([5, 5, 7])
    expect([at(speed, 5, 1000), at(speed, 7, 2000), at(speed, 8, 4000)]).toEqual([0, 2, 0.5])
    // Asked twice at one moment it stays the same.
    expect(at(speed, 8, 4000)).toBe(0.5)
    expect(at(other, 100, 5000)).toBe(0)
  })

  it('computes relative humidity from dry and wet bulb', () => {
    const text = `100 * (6.112 * exp(17.62 * wet / (243.12 + wet)) - 0.000653 * (1 + 0.000944 * wet) * p * (dry - wet)) / (6.112 * exp(17.62 * dry / (243.12 + dry)))`
    const c = compileExpression(
      text,
      ['dry', 'wet', 'p'].map((name) => ({ name, dataType: 'number' as const })),
    )
    if (!('run' in c)) throw new Error(c.message)
    // Aspirated psychrometer at 1013.25 hPa; psychrometric tables give 49 % and 30 %.
    expect(c.run([20, 13.7, 1013.25], 0)).toBeCloseTo(48.9, 0)
    expect(c.run([30, 18, 1013.25], 0)).toBeCloseTo(30, 0)
    expect(c.run([25, 25, 1013.25], 0)).toBeCloseTo(100, 6)
  })

  it('knows the names an expression mentions, whole or half typed', () => {
    expect(namesIn('dryBulb - wetBulb * 2 + round(dryBulb)')).toEqual(['dryBulb', 'wetBulb'])
    expect(namesIn('dryBulb - ')).toEqual(['dryBulb'])
    expect(namesIn('"text" + s')).toEqual(['s'])
  })

  it('offers every function under a form that compiles', () => {
    const fill = ['a', 'b', 'c', 'low', 'high', 'word', 'ms'].map((name) => ({ name, dataType: 'number' as const }))
    for (const f of expressionFunctions) {
      const c = compileExpression(f.form, [...names.map((name) => ({ name, dataType: types[name]! })), ...fill])
      expect('run' in c, `${f.form}: ${'run' in c ? '' : c.message}`).toBe(true)
    }
  })

  it('never throws, whatever is typed', () => {
    fc.assert(
      fc.property(fc.string({ maxLength: 60, unit: fc.constantFrom(...'xyns()[]{}+-*/%<>=!&|?:.,"\'0123456789 \\rbt') }), (text) => {
        const c = compile(text)
        if ('run' in c)
          c.run(
            names.map((n) => values[n]!),
            0,
          )
        else expect(c.from).toBeLessThanOrEqual(c.to)
      }),
      { numRuns: 2000 },
    )
  })
})
