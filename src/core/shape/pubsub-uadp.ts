import type { Settings } from '~/contract/shape'
import type { DataType } from '~/contract/tag'
import type { Scalar } from '../value/deadband'
import { whole as plain } from '../value/whole'
import { newest } from './choose'
import { OctetError, Reader, Writer } from './octets'
import { BUILT_IN, fieldNames, fieldOf, fieldsOf, metadataDue, metadataSuffix, metadataSuffixes, pubsubReading, writerProblems } from './pubsub'
import { type Decoded, type Encoder, type Reading, type Scope, Series, type Shape } from './shape'

type How = Settings<'pubsub-uadp'>

/** 1601-01-01 as epoch ms: DateTime counts from there in 100 ns (OPC 10000-6 5.2.2.5). */
const EPOCH_1601 = -11_644_473_600_000
/** In two halves, since the whole is beyond what a double holds. */
function dateTime(w: Writer, ms: number): void {
  const since = Math.max(0, Math.round(ms) - EPOCH_1601)
  const low = (since % 0x1_0000_0000) * 10_000
  w.u32(low % 0x1_0000_0000)
  w.u32((Math.floor(since / 0x1_0000_0000) * 10_000 + Math.floor(low / 0x1_0000_0000)) >>> 0)
}
const fromDateTime = (n: bigint) => Number(n / 10_000n) + EPOCH_1601

const encoder = new TextEncoder()
/** A String: its length as Int32, -1 for none (OPC 10000-6 5.2.2.4). */
function text(w: Writer, s: string | null): void {
  if (s === null) return w.i32(-1)
  const octets = encoder.encode(s)
  w.i32(octets.length)
  w.raw(octets)
}

/** A Variant: the built-in type, then the value; no type for none (5.2.2.16). */
function variant(w: Writer, value: Scalar, dataType: DataType): void {
  if (value === null) return w.u8(0)
  w.u8(BUILT_IN[dataType])
  if (dataType === 'number') w.f64(value as number)
  else if (dataType === 'integer') w.i64(BigInt(value as number | bigint))
  else if (dataType === 'boolean') w.u8(value ? 1 : 0)
  else if (dataType === 'time') dateTime(w, Date.parse(value as string))
  else text(w, String(value))
}

const STATUS_CODE = 19
const DATA_VALUE = 23
/**
 * A field as a variant (OPC 10000-14 6.2.4.2): a bad one is its StatusCode in place of the value, an uncertain one a DataValue
 * with both.
 */
function variantOf(w: Writer, value: Scalar, status: number, dataType: DataType): void {
  if (status >>> 31 === 1) {
    w.u8(STATUS_CODE)
    w.u32(status >>> 0)
  } else if (status !== 0) {
    w.u8(DATA_VALUE)
    w.u8(value === null ? 2 : 3)
    if (value !== null) variant(w, value, dataType)
    w.u32(status >>> 0)
  } else variant(w, value, dataType)
}

// NetworkMessage: version 1 with publisher id, group header, payload header, extended flags (OPC 10000-14 7.2.4.4.2).
const VERSION_FLAGS = 0x01 | 0x10 | 0x20 | 0x40 | 0x80
/** Publisher id of type UInt16, with timestamp. */
const EXTENDED_1 = 0x01 | 0x20
const EXTENDED_2 = 0x80
/** Writer group id and sequence number. */
const GROUP_FLAGS = 0x01 | 0x08
/** Discovery announcement (7.2.4.6.4), in bits 2 to 4 of the second extended flags. */
const ANNOUNCEMENT = 2 << 2
const METADATA = 2

function head(w: Writer, how: How, flags: number, extended1: number): void {
  w.u8(flags)
  w.u8(extended1)
  if (extended1 & EXTENDED_2) w.u8(ANNOUNCEMENT)
  w.u16(how.publisherId)
}

/** The metadata of a data set as an announcement: DataSetMetaDataType in the binary encoding (OPC 10000-14 6.2.3.2.3). */
export function announcement(how: How, scope: Scope, e: number, sequence: number): Uint8Array {
  const w = new Writer()
  const one = scope.equipment[e]!
  head(w, how, 0x01 | 0x10 | 0x80, 0x01 | EXTENDED_2)
  w.u8(METADATA)
  w.u16(sequence & 0xffff)
  w.u16(scope.places[e]! + 1)
  writeMetadata(w, one.name, fieldNames(one), scope.version)
  w.u32(0)
  return w.take()
}

/** A Guid: three little-endian numbers, then eight octets (OPC 10000-6 5.2.2.6). */
function guid(w: Writer, text: string): void {
  const hex = text.replaceAll('-', '')
  w.u32(Number.parseInt(hex.slice(0, 8), 16))
  w.u16(Number.parseInt(hex.slice(8, 12), 16))
  w.u16(Number.parseInt(hex.slice(12, 16), 16))
  for (let i = 16; i < 32; i += 2) w.u8(Number.parseInt(hex.slice(i, i + 2), 16))
}

function writeMetadata(w: Writer, name: string, fields: ReturnType<typeof fieldNames>, version: number): void {
  // No namespaces, structures, enumerations or simple types of its own.
  for (let i = 0; i < 4; i++) w.i32(-1)
  text(w, name)
  w.u8(0)
  w.i32(fields.length)
  for (const f of fields) {
    text(w, f.name)
    // A LocalizedText with text only.
    if (f.description) {
      w.u8(2)
      text(w, f.description)
    } else w.u8(0)
    w.u16(0)
    w.u8(f.type)
    // NodeId in its two-octet form: namespace 0.
    w.u8(0)
    w.u8(f.type)
    w.i32(-1)
    w.i32(-1)
    w.u32(0)
    guid(w, f.id)
    w.i32(-1)
  }
  for (let i = 0; i < 16; i++) w.u8(0)
  w.u32(version)
  w.u32(version)
}

function encode(how: How, scope: Scope): Encoder {
  const { equipment, places } = scope
  const onlyChanged = how.members === 'changed'
  const full = how.fields === 'value'
  // A number for the writer group, over all messages of the plan, and one for each data set writer (7.2.3): receivers drop repeats.
  const group = scope.series ?? new Series()
  const writers = equipment.map(() => new Series())
  const due = metadataDue(how.metadata)
  let announced = 0
  const w = new Writer()
  const one = new Writer()
  return ({ parts, now, seq, whole }) => {
    let at = Number.NEGATIVE_INFINITY
    const bodies: { id: number; bytes: Uint8Array }[] = []
    for (let e = 0; e < parts.length; e++) {
      const part = parts[e]!
      const chosen = fieldsOf(part, whole, onlyChanged)
      if (chosen.length === 0) continue
      const own = newest(part.cells, now)
      if (own > at) at = own
      const key = whole || !onlyChanged
      // Valid; fields as variants or data values; sequence number, both versions, second flags (7.2.4.5.4).
      one.u8(0x01 | (full ? 2 << 1 : 0) | 0x08 | 0x20 | 0x40 | 0x80)
      one.u8((key ? 0 : 1) | 0x10)
      one.u16(writers[e]!.next(seq) & 0xffff)
      dateTime(one, own)
      one.u32(scope.version)
      one.u32(scope.version)
      one.u16(chosen.length)
      for (const i of chosen) {
        if (!key) one.u16(i)
        const { dataType } = equipment[e]!.members[i]!
        const cell = part.cells[i]!
        const { value, status } = fieldOf(cell, dataType)
        if (full) {
          one.u8((value === null ? 0 : 1) | (status === 0 ? 0 : 2) | (!Number.isNaN(cell.time) ? 4 : 0))
          if (value !== null) variant(one, value, dataType)
          if (status !== 0) one.u32(status >>> 0)
          if (!Number.isNaN(cell.time)) dateTime(one, cell.time)
        } else variantOf(one, value, status, dataType)
      }
      bodies.push({ id: places[e]! + 1, bytes: one.take() })
    }
    if (bodies.length === 0) return null
    if (bodies.length > 255) throw new Error('More than 255 data sets do not fit one network message')
    head(w, how, VERSION_FLAGS, EXTENDED_1)
    w.u8(GROUP_FLAGS)
    w.u16(how.writerGroupId)
    w.u16(group.next(seq) & 0xffff)
    w.u8(bodies.length)
    for (const b of bodies) w.u16(b.id)
    dateTime(w, now)
    if (bodies.length > 1) for (const b of bodies) w.u16(b.bytes.length)
    for (const b of bodies) w.raw(b.bytes)
    return {
      at,
      payload: w.take(),
      ...(due(now) && {
        before: equipment.map((_, e) => ({ payload: announcement(how, scope, e, announced++), suffix: metadataSuffix(scope, e) })),
      }),
    }
  }
}

interface Value {
  value: Reading['value']
  status: number
  time: number | null
}

function readVariant(r: Reader): Reading['value'] {
  const at = r.at
  const type = r.u8()
  switch (type) {
    case 0:
      return null
    case 1:
      return r.u8() !== 0
    case 2:
      return r.i8()
    case 3:
      return r.u8()
    case 4:
      return r.i16()
    case 5:
      return r.u16()
    case 6:
      return r.i32()
    case 7:
      return r.u32()
    case 8:
      return plain(r.i64())
    case 9:
      return plain(r.u64())
    case 10:
      return r.f32()
    case 11:
      return r.f64()
    case 12: {
      const n = r.i32()
      return n < 0 ? null : r.utf8(n)
    }
    case 13: {
      const ms = fromDateTime(r.i64())
      if (Math.abs(ms) > 8.64e15) throw new OctetError('A time beyond all calendars', at)
      return new Date(ms).toISOString()
    }
    default:
      throw new OctetError(`A value of type ${type}, which no member has`, at)
  }
}

function readDataValue(r: Reader): Value {
  const mask = r.u8()
  const value = mask & 1 ? readVariant(r) : null
  const status = mask & 2 ? r.u32() : 0
  let time: number | null = null
  if (mask & 4) {
    time = fromDateTime(r.i64())
    if (Math.abs(time) > 8.64e15) throw new OctetError('A time beyond all calendars', r.at - 8)
  }
  if (mask & 0x10) r.u16()
  if (mask & 8) r.i64()
  if (mask & 0x20) r.u16()
  return { value, status, time }
}

/** A field as a variant: also one that holds a status in place of a value, or a data value (6.2.4.2). */
function readField(r: Reader): Value {
  const type = r.bytes[r.at]
  if (type === STATUS_CODE || type === DATA_VALUE) r.u8()
  if (type === STATUS_CODE) return { value: null, status: r.u32(), time: null }
  if (type === DATA_VALUE) return readDataValue(r)
  return { value: readVariant(r), status: 0, time: null }
}

function readDataSet(r: Reader, scope: Scope, e: number): { kind: string; at: number | null; readings: Reading[] } {
  const one = scope.equipment[e]!
  const flags = r.u8()
  const encoding = (flags >> 1) & 3
  const second = flags & 0x80 ? r.u8() : 0
  if (flags & 0x08) r.u16()
  const at = second & 0x10 ? fromDateTime(r.i64()) : null
  if (at !== null && Math.abs(at) > 8.64e15) throw new OctetError('A time beyond all calendars', r.at - 8)
  if (second & 0x20) r.u16()
  if (flags & 0x10) r.u16()
  if (flags & 0x20) r.u32()
  if (flags & 0x40) r.u32()
  const type = second & 15
  if (type === 3) return { kind: 'keep-alive', at, readings: [] }
  if (type > 1) throw new OctetError(`A data set message of type ${type}`, r.at)
  if (encoding === 1 || encoding === 3) throw new OctetError('Fields in raw encoding: their metadata would be needed', r.at)
  const count = r.u16()
  const readings: Reading[] = []
  for (let n = 0; n < count; n++) {
    const place = type === 1 ? r.u16() : n
    const v: Value = encoding === 2 ? readDataValue(r) : readField(r)
    const m = one.members[place]
    if (!m) throw new OctetError(`Field ${place} of ${one.members.length}`, r.at)
    const status = encoding === 0 && v.value === null && v.status === 0 ? 0x80000000 : v.status
    readings.push(pubsubReading(one.name, m, v.value, status, v.time ?? at))
  }
  return { kind: type === 1 ? 'delta frame' : 'key frame', at, readings }
}

function decode(r: Reader, scope: Scope): Decoded {
  const flags = r.u8()
  if ((flags & 15) !== 1) return { problem: `UADP of version ${flags & 15}, not 1`, at: 0 }
  const extended = flags & 0x80 ? r.u8() : 0
  const second = extended & 0x80 ? r.u8() : 0
  if (flags & 0x10) {
    const type = extended & 7
    if (type === 0) r.u8()
    else if (type === 1) r.u16()
    else if (type === 2) r.u32()
    else if (type === 3) r.u64()
    else if (type === 4) r.utf8(Math.max(0, r.i32()))
    else throw new OctetError('A publisher id of no known type', r.at)
  }
  if (extended & 8) r.take(16)
  if (extended & 0x10) return { problem: 'It is signed or encrypted', at: r.at }
  if (((second >> 2) & 7) === 2) return { kind: 'metadata', at: null, readings: [] }
  if (second & 3) return { problem: 'A piece of a message, or one with promoted fields', at: r.at }
  if (flags & 0x20) {
    const group = r.u8()
    if (group & 1) r.u16()
    if (group & 2) r.u32()
    if (group & 4) r.u16()
    if (group & 8) r.u16()
  }
  if (!(flags & 0x40)) return { problem: 'It does not say whose data it holds', at: r.at }
  const count = r.u8()
  const ids = Array.from({ length: count }, () => r.u16())
  if (extended & 0x20) r.i64()
  if (extended & 0x40) r.u16()
  const sizes = count > 1 ? ids.map(() => r.u16()) : [r.left]
  let at: number | null = null
  let kind = 'key frame'
  const readings: Reading[] = []
  for (let i = 0; i < count; i++) {
    const from = r.at
    const body = r.take(sizes[i]!)
    const e = scope.places.findIndex((p) => p + 1 === ids[i])
    if (e < 0) continue
    const own = readDataSet(new Reader(r.bytes, from, from + body.length), scope, e)
    if (own.kind === 'delta frame') kind = own.kind
    if (own.at !== null && (at === null || own.at > at)) at = own.at
    readings.push(...own.readings)
  }
  if (r.left > 0) throw new OctetError(`${r.left} octets too many`, r.at)
  return { kind, at, readings }
}

/** OPC UA PubSub, UADP mapping (OPC 10000-14 7.2.4): binary network messages with key and delta frames, metadata as announcements. */
export const pubsubUadp: Shape<'pubsub-uadp'> = {
  kind: 'pubsub-uadp',
  wholes: 'signed-64',
  saysWhose: true,
  label: 'OPC UA PubSub, UADP',
  standard: 'OPC 10000-14',
  reserved: () => [],
  contentType: () => 'application/opcua+uadp',
  grouping: (s) => s.per,
  summary: (s) => `OPC UA PubSub in binary (UADP)${s.members === 'changed' ? `, delta frames, a key frame every ${s.fullEvery}` : ', key frames'}`,
  problems: (s, equipment) =>
    s.per === 'publication' && equipment.length > 255
      ? ['At most 255 equipment fit one network message: one message for each']
      : writerProblems(equipment),
  suffixes: metadataSuffixes,
  encoder: encode,
  decoder(_settings, scope) {
    return (bytes): Decoded => {
      try {
        return decode(new Reader(bytes), scope)
      } catch (e) {
        if (e instanceof OctetError) return { problem: e.message, at: e.at }
        throw e
      }
    }
  },
  describeBefore: (settings) => ({
    language: 'text',
    content: `Metadata of a data set as a discovery announcement (OPC 10000-14 7.2.4.6.4) of the publisher ${settings.publisherId}`,
  }),
  describe(settings, scope, all = [scope]) {
    return {
      language: 'text',
      content: {
        publisherId: settings.publisherId,
        writerGroupId: settings.writerGroupId,
        fields: settings.fields === 'value' ? 'DataValue' : 'Variant',
        dataSets: all.flatMap((s) =>
          s.equipment.map((one, e) => ({
            dataSetWriterId: s.places[e]! + 1,
            name: one.name,
            fields: fieldNames(one).map((f) => ({ name: f.name, builtInType: f.type, dataSetFieldId: f.id })),
          })),
        ),
      },
    }
  },
}
