import { promisify } from 'node:util'
import { gunzip, gzip } from 'node:zlib'
import type { FileType } from '~/contract/addresses/file'
import type { FileSettings } from '~/contract/destinations/file'
import { exactJson, parseExact } from '~/core/value/exact-json'
import { plainRows, type Row } from '~/core/value/plain-rows'
import { rowId } from '../rows'
import { readCsv, writeCsv } from './csv'
import { readParquet, writeParquet } from './parquet'
import { unzstd, zstd } from './zstd'

/** A message as rows. */
export interface Sending {
  id: string
  rows: readonly Row[]
  text: string
  /** When it was made, epoch ms. */
  at: number
}

/** A row as it is kept; null: it carries no id. */
export interface KeptRow {
  id: string | null
  row: Row
}

export type Format = Pick<FileSettings, 'format' | 'compression' | 'idColumn'>

/** What a file of ours may unpack to at most, octets. */
export const UNPACKED_MOST = 1 << 30
const gzipped = promisify(gzip)
const gunzipped = promisify(gunzip)
const utf8 = new TextDecoder('utf-8', { fatal: true })

/** Rows of messages, each with the id of its message where ids are carried. */
export function rowsWithIds(sent: readonly Sending[], idColumn: string): Row[] {
  if (idColumn === '') return sent.flatMap(({ rows }) => rows)
  return sent.flatMap(({ id, rows }) => rows.map((row, k) => ({ [idColumn]: rowId(id, k, rows.length), ...row })))
}

/** One line a row: a message that is one object stays as it was written. */
function writeLines(sent: readonly Sending[], idColumn: string): string {
  let out = ''
  for (const m of sent) {
    const plain = m.rows.length === 1 && m.text.startsWith('{') && !/[\r\n]/.test(m.text) && Object.keys(m.rows[0]!).length > 0
    if (!plain) for (const row of rowsWithIds([m], idColumn)) out += `${exactJson(row)}\n`
    else out += idColumn === '' ? `${m.text}\n` : `{${JSON.stringify(idColumn)}:${JSON.stringify(m.id)},${m.text.slice(1)}\n`
  }
  return out
}

/** Makes a file of messages, whole. `types`: of columns, where the format has them. */
export async function encode(
  sent: readonly Sending[],
  f: Format,
  types: { fixed: ReadonlyMap<string, FileType>; known: Map<string, FileType> },
): Promise<Uint8Array> {
  if (f.format === 'parquet') return writeParquet(rowsWithIds(sent, f.idColumn), f, types)
  const plain = Buffer.from(f.format === 'csv' ? writeCsv(rowsWithIds(sent, f.idColumn)) : writeLines(sent, f.idColumn))
  return f.compression === 'gzip' ? gzipped(plain) : f.compression === 'zstd' ? zstd(plain) : plain
}

/** Reads a file of ours; throws when it is none. A line that cannot be read is passed over. */
export async function decode(octets: Uint8Array, name: string, idColumn: string): Promise<KeptRow[]> {
  const rows = await rowsIn(octets, name)
  return rows.map((all) => {
    if (idColumn === '') return { id: null, row: all }
    const { [idColumn]: id, ...row } = all
    return { id: typeof id === 'string' ? id : null, row }
  })
}

async function rowsIn(octets: Uint8Array, name: string): Promise<Row[]> {
  if (name.endsWith('.parquet')) return readParquet(octets)
  const plain = name.endsWith('.gz')
    ? await gunzipped(octets, { maxOutputLength: UNPACKED_MOST })
    : name.endsWith('.zst')
      ? await unzstd(octets, UNPACKED_MOST)
      : octets
  const text = utf8.decode(plain)
  return /\.csv(\.|$)/.test(name) ? readCsv(text) : readLines(text)
}

function readLines(text: string): Row[] {
  return text.split('\n').flatMap((line) => {
    if (line === '') return []
    try {
      const row: unknown = parseExact(line)
      return typeof row === 'object' && row !== null && !Array.isArray(row) ? [row as Row] : []
    } catch {
      return []
    }
  })
}

/**
 * Rows as one text that is the same before and behind a file, whatever its format: values without their way of writing, and without
 * those that hold nothing (files of text hold an empty text so too).
 */
export function plainKept(rows: readonly Row[]): string {
  return plainRows(rows.map((row) => Object.fromEntries(Object.entries(row).filter(([, v]) => v !== ''))))
}
