import type { Scalar } from '../value/deadband'
import { whole as plain } from '../value/whole'
import { binarySchema } from './cbor'
import { OctetError, Reader, type Writer } from './octets'
import type { Shape } from './shape'
import { DEPTH_MAX, emptyMap, type TreeFormat, treeDecoder, treeEncoder } from './tree-octets'

const encoder = new TextEncoder()

/** The MessagePack specification's str formats: fixstr, str 8, str 16, str 32. */
function text(w: Writer, s: string): void {
  let ascii = s.length < 32
  for (let i = 0; ascii && i < s.length; i++) if (s.charCodeAt(i) > 0x7f) ascii = false
  if (ascii) {
    w.u8(0xa0 | s.length)
    w.utf8(s)
    return
  }
  const octets = encoder.encode(s)
  const n = octets.length
  if (n < 32) w.u8(0xa0 | n)
  else if (n < 0x100) {
    w.u8(0xd9)
    w.u8(n)
  } else if (n < 0x10000) {
    w.u8(0xda)
    w.u16(n, false)
  } else {
    w.u8(0xdb)
    w.u32(n, false)
  }
  w.raw(octets)
}

/** int formats, the shortest that holds it. */
function whole(w: Writer, n: number): void {
  if (n >= 0) {
    if (n < 0x80) w.u8(n)
    else if (n < 0x100) {
      w.u8(0xcc)
      w.u8(n)
    } else if (n < 0x10000) {
      w.u8(0xcd)
      w.u16(n, false)
    } else if (n < 0x1_0000_0000) {
      w.u8(0xce)
      w.u32(n, false)
    } else {
      w.u8(0xcf)
      w.i64(BigInt(n), false)
    }
  } else if (n >= -32) w.u8(n & 0xff)
  else if (n >= -0x80) {
    w.u8(0xd0)
    w.u8(n & 0xff)
  } else if (n >= -0x8000) {
    w.u8(0xd1)
    w.u16(n & 0xffff, false)
  } else if (n >= -0x8000_0000) {
    w.u8(0xd2)
    w.u32(n >>> 0, false)
  } else {
    w.u8(0xd3)
    w.i64(BigInt(n), false)
  }
}

/** Beyond 2^53: uint 64 or int 64. */
function large(w: Writer, n: bigint): void {
  w.u8(n >= 0n ? 0xcf : 0xd3)
  w.i64(BigInt.asIntN(64, n), false)
}

function scalar(w: Writer, value: Scalar, isWhole: boolean): void {
  if (value === null) w.u8(0xc0)
  else if (typeof value === 'boolean') w.u8(value ? 0xc3 : 0xc2)
  else if (typeof value === 'string') text(w, value)
  else if (typeof value === 'bigint') large(w, value)
  else if (isWhole && Number.isSafeInteger(value)) whole(w, value)
  else if (Math.fround(value) === value || Number.isNaN(value)) {
    w.u8(0xca)
    w.f32(value, false)
  } else {
    w.u8(0xcb)
    w.f64(value, false)
  }
}

const format: TreeFormat = {
  map(w, n) {
    if (n < 16) w.u8(0x80 | n)
    else {
      w.u8(0xde)
      w.u16(n, false)
    }
  },
  list(w, n) {
    if (n < 16) w.u8(0x90 | n)
    else {
      w.u8(0xdc)
      w.u16(n, false)
    }
  },
  text,
  scalar,
  time(w, at, how, written) {
    if (how.time === 'iso' || how.time === 'local') text(w, written)
    else if (how.time === 'epoch-ms') whole(w, Math.round(at))
    else {
      w.u8(0xcb)
      w.f64(at / 1000, false)
    }
  },
}

/** Reads one object of the MessagePack specification; throws an `OctetError` for anything else. Octets left over are an error. */
export function readMessagePack(bytes: Uint8Array): unknown {
  const r = new Reader(bytes)
  const many = (n: number): number => {
    if (n > r.left) throw new OctetError(`It tells of ${n} where ${r.left} octets are left`, r.at)
    return n
  }
  const list = (n: number, depth: number) => {
    const out: unknown[] = []
    for (let i = many(n); i > 0; i--) out.push(item(depth + 1))
    return out
  }
  const map = (n: number, depth: number) => {
    const out = emptyMap()
    for (let i = many(n); i > 0; i--) {
      const key = item(depth + 1)
      if (typeof key !== 'string' && typeof key !== 'number') throw new OctetError('A key that is neither text nor number', r.at)
      out[String(key)] = item(depth + 1)
    }
    return out
  }
  /** Extension type -1 is a time, in 32, 64 or 96 bits. */
  const extension = (n: number): unknown => {
    const type = r.i8()
    const body = new Reader(r.take(n))
    if (type !== -1) return body.bytes.slice()
    if (n === 4) return new Date(body.u32(false) * 1000)
    if (n === 8) {
      const bits = body.u64(false)
      return new Date(Number(bits & 0x3_ffff_ffffn) * 1000 + Math.round(Number(bits >> 34n) / 1e6))
    }
    if (n === 12) {
      const nanos = body.u32(false)
      return new Date(Number(body.i64(false)) * 1000 + Math.round(nanos / 1e6))
    }
    throw new OctetError('A time of no known length', r.at)
  }
  const item = (depth: number): unknown => {
    if (depth > DEPTH_MAX) throw new OctetError(`It nests deeper than ${DEPTH_MAX} levels`, r.at)
    const at = r.at
    const b = r.u8()
    if (b < 0x80) return b
    if (b < 0x90) return map(b & 15, depth)
    if (b < 0xa0) return list(b & 15, depth)
    if (b < 0xc0) return r.utf8(b & 31)
    if (b >= 0xe0) return b - 0x100
    switch (b) {
      case 0xc0:
        return null
      case 0xc2:
        return false
      case 0xc3:
        return true
      case 0xc4:
        return r.take(r.u8()).slice()
      case 0xc5:
        return r.take(r.u16(false)).slice()
      case 0xc6:
        return r.take(r.u32(false)).slice()
      case 0xc7:
        return extension(r.u8())
      case 0xc8:
        return extension(r.u16(false))
      case 0xc9:
        return extension(r.u32(false))
      case 0xca:
        return r.f32(false)
      case 0xcb:
        return r.f64(false)
      case 0xcc:
        return r.u8()
      case 0xcd:
        return r.u16(false)
      case 0xce:
        return r.u32(false)
      case 0xcf:
        return plain(r.u64(false))
      case 0xd0:
        return r.i8()
      case 0xd1:
        return r.i16(false)
      case 0xd2:
        return r.i32(false)
      case 0xd3:
        return plain(r.i64(false))
      case 0xd4:
      case 0xd5:
      case 0xd6:
      case 0xd7:
      case 0xd8:
        return extension(1 << (b - 0xd4))
      case 0xd9:
        return r.utf8(r.u8())
      case 0xda:
        return r.utf8(r.u16(false))
      case 0xdb:
        return r.utf8(r.u32(false))
      case 0xdc:
        return list(r.u16(false), depth)
      case 0xdd:
        return list(r.u32(false), depth)
      case 0xde:
        return map(r.u16(false), depth)
      case 0xdf:
        return map(r.u32(false), depth)
      default:
        throw new OctetError(`0x${b.toString(16)} begins nothing`, at)
    }
  }
  const out = item(0)
  if (r.left > 0) throw new OctetError(`${r.left} octets too many`, r.at)
  return out
}

/** MessagePack: a map with `at`, the members as the class nests, and `quality` for those that are not good. */
export const messagePack: Shape<'messagepack'> = {
  kind: 'messagepack',
  label: 'MessagePack',
  standard: 'MessagePack specification',
  reserved: () => ['at', 'quality'],
  contentType: () => 'application/vnd.msgpack',
  grouping: () => 'equipment',
  summary: (s) => `MessagePack, nested as the class${s.members === 'changed' ? ', only what changed' : ''}`,
  encoder: (settings, scope) => treeEncoder(format, settings, scope),
  decoder: (settings, scope) => treeDecoder(readMessagePack, settings, scope.equipment[0]!),
  describe: (settings, scope) => ({ language: 'schema', content: binarySchema('MessagePack', settings, scope.equipment[0]!) }),
}
