import type { RowColumn, RowPlace, RowsLook } from '~/contract/row-place'
import type { DataType } from '~/contract/tag'
import { atPointer, dataTypeOf, parsePointer } from '../source/json-leaf'
import { takeAs } from '../source/payload'
import type { Scalar } from '../value/deadband'
import { own } from '../value/own'

/** So many rows a source may have that go out. */
export const ROWS_MOST = 10_000
/** What tells a row from others is no longer than this: it is kept as a key. */
const NAME_MOST = 300
/** In so many rows columns are looked for. */
const LOOKED_AT = 200
/** So much of a value is shown. */
const SHOWN_MOST = 80

/** One row: a value and a status for each column that is asked for. */
export interface ReadRow {
  name: string
  values: Scalar[]
  status: number[]
}

type Fields = Readonly<Record<string, unknown>>
type Found = { rows: [name: string, fields: Fields][] } | { problem: string }

const isFields = (value: unknown): value is Fields => typeof value === 'object' && value !== null && !Array.isArray(value) && !(value instanceof Date)

/** How somebody calls the place where rows stand. */
const placeWords = (at: string) => (at === '' ? 'its answer' : at)

/** Rows of a document by what tells them apart: a list of objects, an object of objects, or one object that is a row itself. */
function found(document: unknown, { at, key }: RowPlace): Found {
  const under = atPointer(document, parsePointer(at) ?? ['\0'])
  if (under === undefined) return { problem: `There is nothing at ${placeWords(at)}` }
  if (Array.isArray(under)) return listed(under, at, key)
  if (!isFields(under)) return { problem: `What stands at ${placeWords(at)} is neither a list nor an object` }
  const inner = Object.entries(under)
  const named = inner.filter((e): e is [string, Fields] => isFields(e[1]))
  if (named.length === inner.length) return { rows: named }
  return { rows: [['', under]] }
}

function listed(items: readonly unknown[], at: string, key: string): Found {
  const rows: [string, Fields][] = []
  for (const [i, item] of items.entries()) {
    if (!isFields(item)) return { problem: `Row ${i + 1} at ${placeWords(at)} is no object` }
    const name = key === '' ? i : own(item, key)
    if (name === undefined || name === null || typeof name === 'object') return { problem: `Row ${i + 1} has no ${key}, which tells it from others` }
    rows.push([String(name), item])
  }
  return { rows }
}

/** Rows of an answer by what tells them apart, in their order; or why there are none. */
export function rowsOf(
  document: unknown,
  place: RowPlace,
  columns: readonly Pick<RowColumn, 'name' | 'dataType'>[],
): { rows: Map<string, ReadRow> } | { problem: string } {
  const all = found(document, place)
  if ('problem' in all) return all
  if (all.rows.length > ROWS_MOST) return { problem: `It has ${all.rows.length} rows: ${ROWS_MOST} can go out` }
  const rows = new Map<string, ReadRow>()
  for (const [name, fields] of all.rows) {
    if (name.length > NAME_MOST) return { problem: `What tells a row from others has ${name.length} characters: ${NAME_MOST} are possible` }
    if (rows.has(name)) return { problem: `${place.key || 'Its name'} is ${name.slice(0, SHOWN_MOST)} in several rows` }
    rows.set(name, rowOf(name, fields, columns))
  }
  return { rows }
}

function rowOf(name: string, fields: Fields, columns: readonly Pick<RowColumn, 'name' | 'dataType'>[]): ReadRow {
  const values: Scalar[] = []
  const status: number[] = []
  for (const column of columns) {
    const taken = takeAs(own(fields, column.name), column.dataType)
    values.push(taken.value)
    status.push(taken.status)
  }
  return { name, values, status }
}

/** The first row of an answer, to be looked at while the others are not needed; null: there is none. */
export function firstRow(
  document: unknown,
  place: RowPlace,
  columns: readonly Pick<RowColumn, 'name' | 'dataType'>[],
): { row: ReadRow | null; count: number } {
  const all = found(document, place)
  if ('problem' in all) return { row: null, count: 0 }
  const [first] = all.rows
  return { row: first ? rowOf(first[0], first[1], columns) : null, count: all.rows.length }
}

/** A type that all of these can be held in. */
const together = (a: DataType, b: DataType): DataType =>
  a === b ? a : (a === 'number' && b === 'integer') || (a === 'integer' && b === 'number') ? 'number' : 'text'

const shown = (value: unknown): string => {
  const text = value instanceof Date ? value.toISOString() : String(value)
  return text.length > SHOWN_MOST ? `${text.slice(0, SHOWN_MOST - 3)}...` : text
}

/** Which columns the rows of an answer have, by the first of them; lists and objects in a row are none. */
export function lookAtRows(document: unknown, place: RowPlace): RowsLook {
  const all = found(document, place)
  if ('problem' in all) return { rows: 0, columns: [], problem: all.problem }
  const columns = new Map<string, { dataType: DataType; value: string }>()
  for (const [, fields] of all.rows.slice(0, LOOKED_AT))
    for (const [name, value] of Object.entries(fields)) {
      if (isFields(value) || Array.isArray(value)) continue
      const there = columns.get(name)
      if (value === null || value === undefined) {
        if (!there) columns.set(name, { dataType: 'text', value: '' })
      } else if (!there || there.value === '') columns.set(name, { dataType: dataTypeOf(value), value: shown(value) })
      else there.dataType = together(there.dataType, dataTypeOf(value))
    }
  return {
    rows: all.rows.length,
    columns: [...columns].slice(0, LOOKED_AT).map(([name, c]) => ({ name, unit: '', ...c })),
    problem: all.rows.length === 0 ? 'There is no row in it now' : '',
  }
}
