import { describe, expect, it } from 'vitest'
import type { RowPlace } from '~/contract/row-place'
import { Status } from '../value/quality'
import { firstRow, lookAtRows, ROWS_MOST, rowsOf } from './read'

const top: RowPlace = { at: '', key: '' }
const columns = [
  { name: 'order', dataType: 'text' as const },
  { name: 'quantity', dataType: 'number' as const },
]
const read = (document: unknown, place: Partial<RowPlace> = {}) => rowsOf(document, { ...top, ...place }, columns)
const names = (document: unknown, place: Partial<RowPlace> = {}) => {
  const found = read(document, place)
  return 'problem' in found ? found.problem : [...found.rows.keys()]
}

const orders = [
  { order: 'WO-1', quantity: 200 },
  { order: 'WO-2', quantity: 50 },
]

describe('rows are found', () => {
  it.each([
    ['under their names', { 'kiln 1': orders[0], packing: orders[1] }, {}, ['kiln 1', 'packing']],
    ['in a list, by a column', orders, { key: 'order' }, ['WO-1', 'WO-2']],
    ['in a list, by their places', orders, {}, ['0', '1']],
    ['somewhere within', { data: { 'a/b': orders } }, { at: '/data/a~1b', key: 'order' }, ['WO-1', 'WO-2']],
    ['as one that is all there is', orders[0], {}, ['']],
    [
      'called like something of the language',
      JSON.parse('{"__proto__":{"order":"a"},"constructor":{"order":"b"}}'),
      {},
      ['__proto__', 'constructor'],
    ],
    ['by whole numbers beyond 2^53', [{ id: 9007199254740993n }], { key: 'id' }, ['9007199254740993']],
    ['none, which is no fault', {}, {}, []],
    ['an empty list', [], { key: 'order' }, []],
  ])('%s', (_words, document, place, wanted) => {
    expect(names(document, place)).toEqual(wanted)
  })

  it.each([
    ['nothing there', { a: 1 }, { at: '/orders' }, 'There is nothing at /orders'],
    ['a value', { a: 1 }, { at: '/a' }, 'What stands at /a is neither a list nor an object'],
    ['no answer', null, {}, 'What stands at its answer is neither a list nor an object'],
    ['a list of values', [1, 2], {}, 'Row 1 at its answer is no object'],
    ['a row without its key', [orders[0], { quantity: 1 }], { key: 'order' }, 'Row 2 has no order, which tells it from others'],
    ['a key that is a list', [{ order: [1] }], { key: 'order' }, 'Row 1 has no order, which tells it from others'],
    ['the same key twice', [orders[0], orders[0]], { key: 'order' }, 'order is WO-1 in several rows'],
    ['a key that is long', [{ order: 'x'.repeat(301) }], { key: 'order' }, 'What tells a row from others has 301 characters: 300 are possible'],
    ['too many', Array.from({ length: ROWS_MOST + 1 }, (_, i) => ({ order: i })), { key: 'order' }, 'It has 10001 rows: 10000 can go out'],
  ])('or told why not: %s', (_words, document, place, wanted) => {
    expect(names(document, place)).toBe(wanted)
  })
})

it('takes values as their columns have them, and says what there is none of', () => {
  const found = read([{ order: 17, quantity: '200.5' }, { quantity: 'many' }, orders[0]])
  if ('problem' in found) throw new Error(found.problem)
  expect([...found.rows.values()].map((r) => r.values)).toEqual([
    ['17', 200.5],
    [null, null],
    ['WO-1', 200],
  ])
  expect(found.rows.get('1')!.status).toEqual([Status.noData, Status.typeMismatch])
})

it('looks at the columns of the first rows, with a type that holds all of them', () => {
  const look = lookAtRows(
    [
      { a: null, n: 1, mixed: 1, when: '2026-12-01T03:00:00Z', inner: { x: 1 }, list: [1], on: true },
      { a: 'x'.repeat(200), n: 2.5, mixed: 'two', big: 9007199254740993n },
    ],
    top,
  )
  expect(look).toMatchObject({ rows: 2, problem: '' })
  expect(look.columns.map((c) => [c.name, c.dataType, c.value.length > 20 ? c.value.length : c.value])).toEqual([
    ['a', 'text', 80],
    ['n', 'number', '1'],
    ['mixed', 'text', '1'],
    ['when', 'time', '2026-12-01T03:00:00Z'],
    ['on', 'boolean', 'true'],
    ['big', 'integer', '9007199254740993'],
  ])
  expect(lookAtRows([], top)).toEqual({ rows: 0, columns: [], problem: 'There is no row in it now' })
  expect(lookAtRows(3, top).problem).toContain('neither a list nor an object')
})

it('gives the first row without reading the others', () => {
  expect(firstRow(orders, { at: '', key: 'order' }, columns)).toMatchObject({ row: { name: 'WO-1', values: ['WO-1', 200] }, count: 2 })
  expect(firstRow([], top, columns)).toEqual({ row: null, count: 0 })
  expect(firstRow(null, top, columns)).toEqual({ row: null, count: 0 })
})
