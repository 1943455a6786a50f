import { deflateSync, gunzipSync, gzipSync, inflateSync } from 'node:zlib'
import { Zstd } from '@hpcc-js/wasm-zstd'
import type { Compression } from '~/contract/shape'

/** What is made of a payload, and of one that came, unpacked to so many octets at the most. */
interface Codec {
  pack(bytes: Uint8Array): Uint8Array
  unpack(bytes: Uint8Array, most: number): Uint8Array
}

let zstd: Zstd | null = null
/** Loads what compresses to Zstandard; once, before the first publication starts. */
export async function loadCompression(): Promise<void> {
  zstd ??= await Zstd.load()
}

const LEVEL = 3

/** The size that a Zstandard frame tells of itself (RFC 8878 3.1.1.1.4); null: it does not. */
export function zstdSize(bytes: Uint8Array): number | null {
  if (bytes.length < 6 || new DataView(bytes.buffer, bytes.byteOffset).getUint32(0, true) !== 0xfd2fb528) throw new Error('no Zstandard frame')
  const head = bytes[4]!
  const single = (head & 0x20) !== 0
  const width = [single ? 1 : 0, 2, 4, 8][head >> 6]!
  if (width === 0) return null
  const at = 5 + (single ? 0 : 1) + [0, 1, 2, 4][head & 3]!
  if (bytes.length < at + width) throw new Error('a Zstandard frame cut short')
  const view = new DataView(bytes.buffer, bytes.byteOffset + at, width)
  return width === 1
    ? view.getUint8(0)
    : width === 2
      ? view.getUint16(0, true) + 256
      : width === 4
        ? view.getUint32(0, true)
        : Number(view.getBigUint64(0, true))
}

const codecs: Record<Exclude<Compression, 'none'> | 'deflate', Codec> = {
  zlib: { pack: (b) => deflateSync(b), unpack: (b, most) => inflateSync(b, { maxOutputLength: most }) },
  deflate: { pack: (b) => deflateSync(b), unpack: (b, most) => inflateSync(b, { maxOutputLength: most }) },
  gzip: { pack: (b) => gzipSync(b), unpack: (b, most) => gunzipSync(b, { maxOutputLength: most }) },
  zstd: {
    pack(b) {
      if (!zstd) throw new Error('Zstandard is not loaded')
      return zstd.compress(b, LEVEL)
    },
    unpack(b, most) {
      if (!zstd) throw new Error('Zstandard is not loaded')
      const size = zstdSize(b)
      if (size === null || size > most) throw new Error(`it would unpack to ${size ?? 'an unknown number of'} octets`)
      return zstd.decompress(b)
    },
  },
}

const encoder = new TextEncoder()
export const octets = (payload: string | Uint8Array): Uint8Array => (typeof payload === 'string' ? encoder.encode(payload) : payload)

export const pack = (how: keyof typeof codecs, payload: string | Uint8Array): Uint8Array => codecs[how].pack(octets(payload))

/** Unpacks what somebody sent; throws with a reason, also when it would become larger than `most` octets. */
export const unpack = (how: keyof typeof codecs, bytes: Uint8Array, most = 16_000_000): Uint8Array => codecs[how].unpack(bytes, most)
