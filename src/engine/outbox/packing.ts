import { promisify } from 'node:util'
import { deflateRaw, inflateRaw } from 'node:zlib'

/** Makes segments small: deflate (RFC 1951), or something like it. */
export interface Packing {
  pack(raw: Uint8Array): Promise<Uint8Array>
  unpack(body: Uint8Array): Promise<Uint8Array>
}

const deflate = promisify(deflateRaw)
const inflate = promisify(inflateRaw)

/** Most octets that a segment may unpack to: what packs itself larger is damaged. */
const RAW_MAX = 64 << 20

export const deflatePacking: Packing = {
  pack: (raw) => deflate(raw, { level: 1 }),
  unpack: (body) => inflate(body, { maxOutputLength: RAW_MAX }),
}
