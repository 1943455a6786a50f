import type { Row } from '~/core/value/plain-rows'
import { quoted, type Table } from './catalog'

/** Rows that go in one statement. */
export interface Statement {
  text: string
  /** A list of JSON objects, one a row. */
  rows: string
}

/** What one statement writes: the columns, and whether rows that are there are replaced. */
export interface Writing {
  table: Table
  columns: readonly string[]
  /** By which rows are known again and replaced; empty: they are added. */
  keys: readonly string[]
  idColumn: string
  rowColumn: string
}

/**
 * Writes rows from a list of JSON objects, each value as the type of its column reads it. A row whose id is there already is kept
 * once, where the column of the id is unique; any other conflict is an error.
 */
export function writing({ table, columns, keys, idColumn, rowColumn }: Writing): string {
  const all = idColumn === '' ? columns : [idColumn, ...columns]
  const names = all.map(quoted).join(', ')
  const typed = all.map((c) => `${quoted(c)} ${table.columns.get(c)!.type}`).join(', ')
  return `insert into ${table.quoted} as t (${names}) select ${names} from json_to_recordset($1::json) as r(${typed})${conflict()}`

  function conflict(): string {
    if (keys.length === 0) return table.columns.get(idColumn)?.unique ? ` on conflict (${quoted(idColumn)}) do nothing` : ''
    const set = all.filter((c) => !keys.includes(c)).map((c) => `${quoted(c)} = excluded.${quoted(c)}`)
    // It counts as a new row, so that it is found.
    if (table.columns.has(rowColumn)) set.push(`${quoted(rowColumn)} = default`)
    return ` on conflict (${keys.map(quoted).join(', ')}) do ${set.length === 0 ? 'nothing' : `update set ${set.join(', ')}`}`
  }
}

/** What tells rows apart that replace each other. */
export const keyOf = (row: Row, keys: readonly string[]): string => JSON.stringify(keys.map((k) => String(row[k])))
