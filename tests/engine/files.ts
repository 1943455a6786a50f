import { readdirSync, readFileSync } from 'node:fs'
import { join } from 'node:path'
import { gunzipSync } from 'node:zlib'
import { tableFromIPC } from 'apache-arrow'
import { parse } from 'csv-parse/sync'
import { decompress } from 'fzstd'
import { readParquet } from 'parquet-wasm/node'

/** A row as somebody else reads it. */
export type Row = Record<string, unknown>

/** Rows of a file, by readers that share nothing with who wrote it. */
export function rowsOf(name: string, octets: Uint8Array): Row[] {
  if (name.endsWith('.parquet')) {
    const table = tableFromIPC(readParquet(new Uint8Array(octets)).intoIPCStream())
    return table.toArray().map((row) => row.toJSON() as Row)
  }
  const plain = name.endsWith('.gz') ? gunzipSync(octets) : name.endsWith('.zst') ? decompress(octets) : octets
  const text = new TextDecoder('utf-8', { fatal: true }).decode(plain)
  if (/\.csv(\.|$)/.test(name)) return parse(text, { columns: true, relax_column_count: false }) as Row[]
  return text.split('\n').flatMap((line) => (line === '' ? [] : [JSON.parse(line) as Row]))
}

/** All files under a folder that are no secret of anybody, by name. */
export function filesIn(folder: string): Map<string, Buffer> {
  const out = new Map<string, Buffer>()
  for (const entry of readdirSync(folder, { recursive: true, withFileTypes: true })) {
    const path = join(entry.parentPath, entry.name)
    if (entry.isFile() && !path.includes('/.')) out.set(path.slice(folder.length + 1), readFileSync(path))
  }
  return out
}
