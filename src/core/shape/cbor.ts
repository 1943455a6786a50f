import type { Scalar } from '../value/deadband'
import { whole as plain } from '../value/whole'
import { nestedSchema } from './nested-json'
import { OctetError, Reader, type Writer } from './octets'
import type { Shape } from './shape'
import { DEPTH_MAX, emptyMap, type TreeFormat, treeDecoder, treeEncoder } from './tree-octets'

/** The head of an item: major type and argument in the fewest octets (RFC 8949 3, 4.2.1). */
function head(w: Writer, major: number, n: number): void {
  const m = major << 5
  if (n < 24) w.u8(m | n)
  else if (n < 0x100) {
    w.u8(m | 24)
    w.u8(n)
  } else if (n < 0x10000) {
    w.u8(m | 25)
    w.u16(n, false)
  } else if (n < 0x1_0000_0000) {
    w.u8(m | 26)
    w.u32(n, false)
  } else {
    w.u8(m | 27)
    w.i64(BigInt(n), false)
  }
}

function text(w: Writer, s: string): void {
  // The head needs the length in octets: for short plain texts that of the text, else it is written apart.
  let ascii = s.length < 48
  for (let i = 0; ascii && i < s.length; i++) if (s.charCodeAt(i) > 0x7f) ascii = false
  if (ascii) {
    head(w, 3, s.length)
    w.utf8(s)
  } else {
    const octets = new TextEncoder().encode(s)
    head(w, 3, octets.length)
    w.raw(octets)
  }
}

function whole(w: Writer, n: number): void {
  if (n >= 0) head(w, 0, n)
  else head(w, 1, -1 - n)
}

/** Beyond 2^53: major type 0 or 1 with eight octets (RFC 8949 3.1), which holds -2^64 to 2^64 - 1. */
function large(w: Writer, n: bigint): void {
  w.u8(n >= 0n ? 0x1b : 0x3b)
  w.i64(BigInt.asIntN(64, n >= 0n ? n : -1n - n), false)
}

function scalar(w: Writer, value: Scalar, isWhole: boolean): void {
  if (value === null) w.u8(0xf6)
  else if (typeof value === 'boolean') w.u8(value ? 0xf5 : 0xf4)
  else if (typeof value === 'string') text(w, value)
  else if (typeof value === 'bigint') large(w, value)
  else if (isWhole && Number.isSafeInteger(value)) whole(w, value)
  else if (Math.fround(value) === value || Number.isNaN(value)) {
    w.u8(0xfa)
    w.f32(value, false)
  } else {
    w.u8(0xfb)
    w.f64(value, false)
  }
}

const format: TreeFormat = {
  map: (w, n) => head(w, 5, n),
  list: (w, n) => head(w, 4, n),
  text,
  scalar,
  time(w, at, how, written) {
    // Tag 0: a text as RFC 3339 has it; tag 1: seconds since 1970 (RFC 8949 3.4.1, 3.4.2).
    if (how.time === 'iso' || how.time === 'local') {
      w.u8(0xc0)
      text(w, written)
    } else if (how.time === 'epoch-s') {
      w.u8(0xc1)
      w.u8(0xfb)
      w.f64(at / 1000, false)
    } else whole(w, Math.round(at))
  },
}

function half(bits: number): number {
  const sign = bits & 0x8000 ? -1 : 1
  const exponent = (bits >> 10) & 31
  const fraction = bits & 1023
  if (exponent === 0) return sign * fraction * 2 ** -24
  if (exponent === 31) return fraction ? Number.NaN : sign * Number.POSITIVE_INFINITY
  return sign * (1 + fraction / 1024) * 2 ** (exponent - 15)
}

/** Reads one item (RFC 8949), of definite or indefinite length; throws an `OctetError` for anything else. Octets left over are an error. */
export function readCbor(bytes: Uint8Array): unknown {
  const r = new Reader(bytes)
  const BREAK = Symbol('break')
  const argument = (info: number, at: number): number | bigint => {
    if (info < 24) return info
    if (info === 24) return r.u8()
    if (info === 25) return r.u16(false)
    if (info === 26) return r.u32(false)
    if (info === 27) return plain(r.u64(false))
    throw new OctetError(`Additional information ${info} means nothing here`, at)
  }
  const length = (info: number, at: number): number => {
    const n = argument(info, at)
    // Every item takes an octet at least: more than are left is a lie.
    if (typeof n === 'bigint' || n > r.left) throw new OctetError(`It tells of ${n} where ${r.left} octets are left`, at)
    return n
  }
  const item = (depth: number): unknown => {
    if (depth > DEPTH_MAX) throw new OctetError(`It nests deeper than ${DEPTH_MAX} levels`, r.at)
    const at = r.at
    const first = r.u8()
    const major = first >> 5
    const info = first & 31
    switch (major) {
      case 0:
        return argument(info, at)
      case 1: {
        const n = argument(info, at)
        return plain(-1n - BigInt(n))
      }
      case 2:
      case 3: {
        if (info !== 31) return major === 2 ? r.take(length(info, at)).slice() : r.utf8(length(info, at))
        const pieces: unknown[] = []
        for (;;) {
          const piece = item(depth + 1)
          if (piece === BREAK) break
          if (major === 3 ? typeof piece !== 'string' : !(piece instanceof Uint8Array)) throw new OctetError('A piece of another type', r.at)
          pieces.push(piece)
        }
        return major === 3 ? pieces.join('') : Uint8Array.from((pieces as Uint8Array[]).flatMap((p) => [...p]))
      }
      case 4: {
        const out: unknown[] = []
        for (let i = 0, n = info === 31 ? Number.POSITIVE_INFINITY : length(info, at); i < n; i++) {
          const v = item(depth + 1)
          if (v === BREAK) {
            if (info === 31) break
            throw new OctetError('A break where none can be', r.at)
          }
          out.push(v)
        }
        return out
      }
      case 5: {
        const out = emptyMap()
        for (let i = 0, n = info === 31 ? Number.POSITIVE_INFINITY : length(info, at); i < n; i++) {
          const key = item(depth + 1)
          if (key === BREAK && info === 31) break
          if (typeof key !== 'string' && typeof key !== 'number') throw new OctetError('A key that is neither text nor number', r.at)
          const value = item(depth + 1)
          if (value === BREAK) throw new OctetError('A break where none can be', r.at)
          out[String(key)] = value
        }
        return out
      }
      case 6: {
        const tag = argument(info, at)
        const value = item(depth + 1)
        if (value === BREAK) throw new OctetError('A break where none can be', r.at)
        if (tag === 1 && typeof value === 'number' && Math.abs(value) < 8.64e12) return new Date(value * 1000)
        if (tag === 0 && typeof value === 'string' && Number.isFinite(Date.parse(value))) return new Date(value)
        return value
      }
      default:
        if (info === 20 || info === 21) return info === 21
        if (info === 22 || info === 23) return null
        if (info === 25) return half(r.u16(false))
        if (info === 26) return r.f32(false)
        if (info === 27) return r.f64(false)
        if (info === 31 && depth > 0) return BREAK
        throw new OctetError(`Simple value ${info} is not known`, at)
    }
  }
  const out = item(0)
  if (r.left > 0) throw new OctetError(`${r.left} octets too many`, r.at)
  return out
}

/** CBOR (RFC 8949): a map with `at`, the members as the class nests, and `quality` for those that are not good. */
export const cborShape: Shape<'cbor'> = {
  kind: 'cbor',
  label: 'CBOR',
  standard: 'RFC 8949',
  reserved: () => ['at', 'quality'],
  contentType: () => 'application/cbor',
  grouping: () => 'equipment',
  summary: (s) => `CBOR, nested as the class${s.members === 'changed' ? ', only what changed' : ''}`,
  encoder: (settings, scope) => treeEncoder(format, settings, scope),
  decoder: (settings, scope) => treeDecoder(readCbor, settings, scope.equipment[0]!),
  describe: (settings, scope) => ({ language: 'schema', content: binarySchema('CBOR', settings, scope.equipment[0]!) }),
}

/** A JSON Schema of what the octets hold, as their format's counterparts. */
export function binarySchema(name: string, how: Parameters<typeof treeEncoder>[1], one: Parameters<typeof nestedSchema>[1]) {
  const { properties, required } = nestedSchema({ ...how, decimals: null, nonFinite: 'null', wholes: 'number' }, one)
  return {
    $schema: 'https://json-schema.org/draft/2020-12/schema',
    title: one.className,
    description: `What the ${name} holds`,
    type: 'object',
    properties: { at: { description: 'Time of the message' }, ...properties },
    required: ['at', ...required],
  }
}
