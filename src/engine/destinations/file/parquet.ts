import { gunzipSync, gzipSync } from 'node:zlib'
import { parquetMetadata, parquetRead } from 'hyparquet'
import { type BasicType, parquetWriteBuffer } from 'hyparquet-writer'
import type { FileType } from '~/contract/addresses/file'
import type { FileSettings } from '~/contract/destinations/file'
import { isoMs, isoOf } from '~/core/value/iso-time'
import { own } from '~/core/value/own'
import type { Row } from '~/core/value/plain-rows'
import { pack, unpack } from '../../publications/compress'
import { asText, columnTypes } from './columns'

const types: Readonly<Record<FileType, BasicType>> = { text: 'STRING', number: 'DOUBLE', whole: 'INT64', truth: 'BOOLEAN', time: 'TIMESTAMP' }
const codecs = { none: 'UNCOMPRESSED', gzip: 'GZIP', zstd: 'ZSTD' } as const
/** Rows of one group at most. */
const GROUP = 100_000
const PAGE_MOST = 256 << 20

function valueFor(type: FileType, v: unknown): unknown {
  if (v === null || v === undefined) return null
  switch (type) {
    case 'text':
      return asText(v)
    case 'whole':
      return BigInt(v as number)
    case 'time':
      return BigInt(isoMs(v as string) ?? 0)
    default:
      return v
  }
}

/** Rows as a Parquet file (Apache Parquet format 2): a column for each field, flat, nested values as JSON in text. */
export function writeParquet(
  rows: readonly Row[],
  { compression }: Pick<FileSettings, 'compression'>,
  { fixed, known }: { fixed: ReadonlyMap<string, FileType>; known: Map<string, FileType> },
): Uint8Array {
  const columns = [...columnTypes(rows, fixed, known)]
  const octets = parquetWriteBuffer({
    columnData: columns.map(([name, type]) => ({ name, type: types[type], data: rows.map((row) => valueFor(type, own(row, name))), nullable: true })),
    codec: codecs[compression],
    compressors: { GZIP: (b) => gzipSync(b), ZSTD: (b) => pack('zstd', b) },
    rowGroupSize: GROUP,
    createdBy: 'embrik',
  })
  return new Uint8Array(octets)
}

export async function readParquet(octets: Uint8Array): Promise<Row[]> {
  const file = octets.buffer.slice(octets.byteOffset, octets.byteOffset + octets.byteLength) as ArrayBuffer
  const metadata = parquetMetadata(file)
  const columns = metadata.schema.slice(1).map(({ name }) => name)
  const rows = await new Promise<unknown[][]>((onComplete, failed) =>
    parquetRead({
      file,
      metadata,
      onComplete,
      parsers: { timestampFromMilliseconds: (ms) => isoOf(Number(ms)) },
      compressors: { GZIP: (b) => gunzipSync(b, { maxOutputLength: PAGE_MOST }), ZSTD: (b) => unpack('zstd', b, PAGE_MOST) },
    }).catch(failed),
  )
  return rows.map((values) => {
    // Without a prototype: a column may be called __proto__.
    const row: Record<string, unknown> = Object.create(null)
    values.forEach((v, i) => {
      if (v !== null && v !== undefined) row[columns[i]!] = v
    })
    return row
  })
}
