import type { FileType } from '~/contract/addresses/file'
import { exactJson } from '~/core/value/exact-json'
import { isoMs } from '~/core/value/iso-time'
import { own } from '~/core/value/own'
import type { Row } from '~/core/value/plain-rows'

const WHOLE_MOST = 2n ** 63n

const isWhole = (v: unknown): boolean =>
  typeof v === 'bigint' ? v >= -WHOLE_MOST && v < WHOLE_MOST : typeof v === 'number' && Number.isSafeInteger(v) && !Object.is(v, -0)

/** Whether a value can stand in a column of that type, and be read there as what it was. */
export function fits(type: FileType, v: unknown): boolean {
  switch (type) {
    case 'text':
      return true
    case 'number':
      return typeof v === 'number'
    case 'whole':
      return isWhole(v)
    case 'truth':
      return typeof v === 'boolean'
    case 'time':
      return typeof v === 'string' && isoMs(v) !== null
  }
}

/** A value as text, digits and all. */
export function asText(v: unknown): string {
  if (v === null || v === undefined) return ''
  if (typeof v === 'string') return v
  return typeof v === 'object' ? exactJson(v) : String(v === 0 && Object.is(v, -0) ? '-0' : v)
}

/** The narrowest type that both fit. */
function wider(a: FileType, b: FileType): FileType {
  return a === b ? a : 'text'
}

function typeFor(v: unknown): FileType {
  if (typeof v === 'boolean') return 'truth'
  if (typeof v === 'number') return 'number'
  return typeof v === 'bigint' && isWhole(v) ? 'whole' : 'text'
}

/** Columns that have a value somewhere in these rows, in the order in which they come first. */
export const columnsOf = (rows: readonly Row[]): string[] => [
  ...new Set(rows.flatMap((row) => Object.keys(row).filter((column) => row[column] !== null && row[column] !== undefined))),
]

/**
 * Types of the columns of rows: those that are fixed, else what fits all values, here and in what was written before (`known`, which
 * learns). Numbers are doubles, unless one of them has more digits than a double holds.
 */
export function columnTypes(rows: readonly Row[], fixed: ReadonlyMap<string, FileType>, known: Map<string, FileType>): Map<string, FileType> {
  const out = new Map<string, FileType>()
  for (const column of columnsOf(rows)) {
    const values = rows.map((row) => own(row, column)).filter((v) => v !== null && v !== undefined)
    const type = fixed.get(column) ?? joint(values, known.get(column))
    if (!fixed.has(column)) known.set(column, type)
    out.set(column, type)
  }
  return out
}

function joint(values: readonly unknown[], before: FileType | undefined): FileType {
  // A number of many digits among whole ones makes all of them whole.
  if (values.some((v) => typeof v === 'bigint')) return values.every(isWhole) && (before ?? 'whole') === 'whole' ? 'whole' : 'text'
  if (before === 'whole' && values.every(isWhole)) return 'whole'
  let type = before
  for (const v of values) type = type === undefined ? typeFor(v) : wider(type, typeFor(v))
  return type ?? 'text'
}
