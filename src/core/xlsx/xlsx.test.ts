import fc from 'fast-check'
import readXlsx from 'read-excel-file/node'
import { describe, expect, it } from 'vitest'
import { bookOf, formula, type Given, rich } from '../../../tests/workbook'
import { columnOf, Workbook } from './read'
import { columnName, writeSheet } from './write'

const texts = (bytes: Uint8Array, sheet = 'one') =>
  new Workbook(bytes).rows(sheet).map((r) => Object.fromEntries([...r.cells].map(([c, { text }]) => [c, text])))
const one = (cells: Given[], o?: Parameters<typeof bookOf>[1]) => texts(bookOf({ one: [cells] }, o))[0]
const raw = (attributes: string, inside: string): Given => ({ attributes, inside })

describe('what another program wrote', () => {
  it('texts, shared or in the cell, rich or with the marks of their pronunciation', () => {
    expect(
      one(['a', raw('t="s"', '<v>0</v>'), raw('t="inlineStr"', '<is><r><t>in</t></r><r><t>side</t></r><rPh><t>x</t></rPh></is>')], {
        shared: [rich('k', 'Pa')],
      }),
    ).toEqual({
      0: 'a',
      1: 'kPa',
      2: 'inside',
    })
    expect(one(['Öl & <b>', '_x0041_ and _x005F_x0041_', 'a\nb'])).toEqual({ 0: 'Öl & <b>', 1: 'A and _x0041_', 2: 'a\nb' })
  })

  it('numbers as they are, truths, errors and results of formulas', () => {
    expect(one([1.5, -3, raw('', '<v>1E-3</v>'), raw('', '<v>0.30000000000000004</v>'), raw('', '<v>9007199254740993</v>')])).toEqual({
      0: '1.5',
      1: '-3',
      2: '0.001',
      3: '0.30000000000000004',
      4: '9007199254740993',
    })
    expect(one([raw('t="b"', '<v>1</v>'), raw('t="b"', '<v>0</v>'), raw('t="e"', '<v>#DIV/0!</v>')])).toEqual({ 0: 'true', 1: 'false', 2: '#DIV/0!' })
    const [row] = new Workbook(bookOf({ one: [[formula('A1&"<"', 'x<'), formula('1+1', 2), formula('NOW()', null), 'plain']] })).rows('one')
    expect([...row!.cells.values()]).toEqual([
      { text: 'x<', formula: true },
      { text: '2', formula: true },
      { text: '#no result', formula: true },
      { text: 'plain', formula: false },
    ])
  })

  it('times by their format, of the standard or its own, in both systems of days', () => {
    const at = (style: number, days: number): Given => raw(`s="${style}"`, `<v>${days}</v>`)
    const styles = {
      numbers: [0, 14, 22, 164, 165, 166, 167],
      codes: { 164: 'yyyy\\-mm\\-dd hh:mm', 165: '0.00 "days"', 166: '[h]:mm', 167: '[Red]0.0' },
    }
    const cells = [0, 1, 2, 3, 4, 5, 6].map((s) => at(s, 44_927.5))
    const time = '2023-01-01T12:00:00.000Z'
    expect(one(cells, { styles })).toEqual({ 0: '44927.5', 1: time, 2: time, 3: time, 4: '44927.5', 5: time, 6: '44927.5' })
    expect(one([at(1, 43_465.5)], { styles, date1904: true })).toEqual({ 0: time })
    expect(one([raw('t="d"', '<v>2023-01-01T12:00:00Z</v>')])).toEqual({ 0: '2023-01-01T12:00:00Z' })
  })

  it('rows and cells at their places, with holes; elements under a prefix; the first rows alone', () => {
    const bytes = bookOf({ one: [['a', null, 'c'], [], [null, null, null, 'd']] }, { prefix: 'x' })
    expect(new Workbook(bytes).rows('one').map((r) => [r.line, [...r.cells.keys()]])).toEqual([
      [1, [0, 2]],
      [3, [3]],
    ])
    expect(new Workbook(bytes).rows('one', 1)).toHaveLength(1)
  })

  it('names of sheets, in their order', () => {
    expect(new Workbook(bookOf({ 'Öfen & <mehr>': [], zwei: [['x']] })).sheets).toEqual(['Öfen & <mehr>', 'zwei'])
  })

  it('what is broken throws, and nothing hangs', () => {
    expect(() => new Workbook(new TextEncoder().encode('no'))).toThrow()
    const bytes = bookOf({ one: [['a']] })
    fc.assert(
      fc.property(fc.integer({ min: 0, max: bytes.length - 1 }), fc.integer({ min: 1, max: 255 }), (place, by) => {
        const bent = bytes.slice()
        bent[place]! ^= by
        try {
          new Workbook(bent).rows('one')
        } catch (e) {
          expect(e).toBeInstanceOf(Error)
        }
      }),
      { numRuns: 300 },
    )
  })
})

it('columns have letters, there and back', () => {
  expect([0, 25, 26, 27, 701, 702].map(columnName)).toEqual(['A', 'Z', 'AA', 'AB', 'ZZ', 'AAA'])
  fc.assert(fc.property(fc.nat(16_383), (n) => columnOf(`${columnName(n)}7`) === n))
})

describe('what we write', () => {
  const columns = [
    { heading: 'name', width: 20 },
    { heading: 'low', width: 10 },
  ]

  it('is read back as it was, whatever stands in it', () => {
    const value = fc.oneof(
      fc.string({ unit: 'binary', minLength: 1 }),
      fc.constantFrom('\0', '\r\n', '_x000D_', '_x005F_', ' a ', '\ud800', '\u2028', '<&">', '=1+1'),
    )
    fc.assert(
      fc.property(fc.array(fc.tuple(value, fc.double({ noNaN: true, noDefaultInfinity: true })), { minLength: 1, maxLength: 8 }), (rows) => {
        const read = new Workbook(writeSheet('tags', columns, rows)).rows('tags')
        expect(read[0]!.cells.get(0)!.text).toBe('name')
        expect(read.slice(1).map((r) => [r.cells.get(0)?.text, Number(r.cells.get(1)?.text)])).toEqual(rows.map(([a, b]) => [a, b === 0 ? 0 : b]))
      }),
    )
  })

  it('is read by an independent reader', async () => {
    const bytes = writeSheet('tags', columns, [
      ['Öl & <b>', 1.5],
      ['=1+1', -3],
      [' spaces ', null],
    ])
    const sheets = await readXlsx(Buffer.from(bytes), { trim: false })
    expect(sheets).toEqual([
      {
        sheet: 'tags',
        data: [
          ['name', 'low'],
          ['Öl & <b>', 1.5],
          ['=1+1', -3],
          [' spaces ', null],
        ],
      },
    ])
  })
})
