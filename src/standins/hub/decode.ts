import { decode as decodeMessagePack } from '@msgpack/msgpack'
import cbor from 'cbor'

const DEPTH_MOST = 50

/** As JSON can say it. */
function plain(value: unknown, depth = 0): unknown {
  if (typeof value === 'bigint') return Number.isSafeInteger(Number(value)) ? Number(value) : String(value)
  if (typeof value === 'number') return Number.isFinite(value) ? value : String(value)
  if (typeof value !== 'object' || value === null) return value
  if (depth > DEPTH_MOST) throw new Error('too deep')
  if (value instanceof Uint8Array) return Buffer.from(value).toString('hex')
  if (value instanceof Date) return value.toISOString()
  if (Array.isArray(value)) return value.map((v) => plain(v, depth + 1))
  const entries = value instanceof Map ? [...value] : Object.entries(value)
  return Object.fromEntries(entries.map(([name, v]) => [String(name), plain(v, depth + 1)]))
}

/** Reads a payload by its media type, with libraries that nobody else here uses; what names none is taken for JSON. Throws at what it is not. */
export function decoded(payload: Buffer, contentType: string): unknown {
  const type = contentType.split(';')[0]!.trim().toLowerCase()
  if (/[/+]cbor$/.test(type)) return plain(cbor.decodeFirstSync(payload))
  if (/[/.+-]msgpack$/.test(type)) return plain(decodeMessagePack(payload, { useBigInt64: true }))
  return JSON.parse(payload.toString('utf8'))
}
