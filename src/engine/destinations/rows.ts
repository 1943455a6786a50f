import type { Envelope } from '~/core/delivery/envelope'
import { exactJson, parseExact } from '~/core/value/exact-json'
import type { Row } from '~/core/value/plain-rows'

const utf8 = new TextDecoder('utf-8', { fatal: true })

/** What a message holds as rows: an object is one, a list of objects is many. Null: it is neither. */
export function rowsIn(payload: string | Uint8Array): { rows: Row[]; text: string } | null {
  try {
    const text = typeof payload === 'string' ? payload : utf8.decode(payload)
    const json = parseExact(text)
    const rows = Array.isArray(json) ? json : [json]
    if (rows.length === 0 || !rows.every((r) => typeof r === 'object' && r !== null && !Array.isArray(r))) return null
    return { rows: rows as Row[], text }
  } catch {
    return null
  }
}

const read = new WeakMap<Envelope, ReturnType<typeof rowsIn>>()

/** `rowsIn` of a message, which is read once. */
export function rowsOf(e: Envelope): ReturnType<typeof rowsIn> {
  let rows = read.get(e)
  if (rows === undefined) read.set(e, (rows = rowsIn(e.payload)))
  return rows
}

/** Columns that have a value somewhere in these rows, each once. */
export const filledIn = (rows: readonly Row[]): string[] => [
  ...new Set(rows.flatMap((r) => Object.keys(r).filter((k) => r[k] !== null && r[k] !== undefined))),
]

/** The id of a row: that of its message, which says which of how many rows it is where there are several. */
export const rowId = (id: string, k: number, of: number): string => (of === 1 ? id : `${id}/${k + 1}/${of}`)

/** Reads the id of a row; `of`: how many rows its message has. */
export function readRowId(text: string): { id: string; k: number; of: number } {
  const [, id, k, of] = /^(.+)\/(\d{1,7})\/(\d{1,7})$/.exec(text) ?? []
  return id === undefined ? { id: text, k: 0, of: 1 } : { id, k: Number(k) - 1, of: Number(of) }
}

/** Rows as JSON with the id of each in its column; `text`: what one row was read from, which stays as it is. */
export function withIds({ rows, text }: { rows: readonly Row[]; text: string }, id: string, idColumn: string): string {
  if (idColumn === '') return rows.map((r) => exactJson(r)).join(',')
  const said = (k: number) => `${JSON.stringify(idColumn)}:${JSON.stringify(rowId(id, k, rows.length))}`
  if (rows.length === 1 && text.startsWith('{') && Object.keys(rows[0]!).length > 0) return `{${said(0)},${text.slice(1)}`
  return rows.map((r, k) => exactJson({ [idColumn]: rowId(id, k, rows.length), ...r })).join(',')
}
