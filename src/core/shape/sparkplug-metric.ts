// Names, aliases and metrics of Sparkplug B payloads (Sparkplug 3.0 6.4), as octets.
import type { PlanEquipment, PlanMember } from '~/contract/publication'
import type { Settings } from '~/contract/shape'
import type { DataType } from '~/contract/tag'
import type { Cell } from '../publication/cells/cell'
import type { Scalar } from '../value/deadband'
import { qualityOf, reasonOf } from '../value/quality'
import { isInt64 } from '../value/whole'
import { timeOr } from './choose'
import { Writer } from './octets'

type How = Settings<'sparkplug-b'>

/** Datatypes (Sparkplug 3.0 6.4.16): Boolean, Int64, Double, String, DateTime. */
export const DATATYPE: Record<DataType, number> = { boolean: 11, integer: 4, number: 10, text: 12, time: 13 }

export const NAMESPACE = 'spBv1.0'

/** Names of devices are a level of the topic: what may not stand there becomes a dash. */
export const deviceId = (one: Pick<PlanEquipment, 'name'>) => one.name.replace(/[/+#\0]/g, '-')
/** Metric names nest by slashes. */
export const metricName = (m: Pick<PlanMember, 'key'>) => m.key.replaceAll('.', '/')

/** Topic of a kind of message, of the node or of one of its devices (4.1). */
export const sparkplugTopicOf = (how: Pick<How, 'group' | 'node'>, type: string, device?: string) =>
  `${NAMESPACE}/${how.group}/${type}/${how.node}${device === undefined ? '' : `/${device}`}`

/**
 * A metric's alias: 31 bits of a hash (FNV-1a) over the identity of its equipment and its key, so that messages that wait
 * in the outbox keep theirs over a new version and new births.
 */
export function aliasOf(one: Pick<PlanEquipment, 'id'>, m: Pick<PlanMember, 'key'>): number {
  let h = 0x811c9dc5
  const text = `${one.id}/${m.key}`
  for (let i = 0; i < text.length; i++) h = Math.imul(h ^ text.charCodeAt(i), 0x01000193)
  return (h >>> 1) + 1
}

/** Whether aliases of these would be mistaken for each other; then names are sent. */
export function ambiguous(equipment: readonly PlanEquipment[]): boolean {
  const seen = new Set<number>()
  for (const one of equipment)
    for (const m of one.members) {
      const alias = aliasOf(one, m)
      if (seen.has(alias)) return true
      seen.add(alias)
    }
  return false
}

/** What is written by hand, as octets. */
export const octets = (write: (w: Writer) => void): Uint8Array => {
  const w = new Writer(64)
  write(w)
  return w.take()
}
const encoder = new TextEncoder()
/** A field that has a length: its tag, the length, the octets. */
export function field(w: Writer, tag: number, bytes: Uint8Array): void {
  w.u8(tag)
  w.varint(bytes.length)
  w.raw(bytes)
}
/** Text as UTF-8. */
export const text = (s: string) => encoder.encode(s)

/** Quality (6.4.13): 0 bad, 192 good, 500 stale. */
const qualityCode = (status: number) => (qualityOf(status) === 'bad' ? 0 : 500)

/** Properties of a value that is not good (6.4.12): `Quality`, and its reason in words. */
const properties = new Map<number, Uint8Array>()
function propertiesOf(status: number): Uint8Array {
  let known = properties.get(status)
  if (!known) {
    const quality = octets((w) => {
      w.u8(0x08)
      w.u8(3)
      w.u8(0x18)
      w.varint(qualityCode(status))
    })
    const reason = octets((w) => {
      w.u8(0x08)
      w.u8(12)
      field(w, 0x42, text(reasonOf(status)))
    })
    const set = octets((w) => {
      field(w, 0x0a, text('Quality'))
      field(w, 0x0a, text('reason'))
      field(w, 0x12, quality)
      field(w, 0x12, reason)
    })
    known = octets((w) => field(w, 0x4a, set))
    if (properties.size > 500) properties.clear()
    properties.set(status, known)
  }
  return known
}

/** No octets. */
export const none: Uint8Array = new Uint8Array(0)
/** Octets of a time as a varint: those of one message are mostly the same. */
let lastTime = Number.NaN
let lastOctets: Uint8Array = none
export function timeOctets(at: number): Uint8Array {
  if (at !== lastTime) {
    lastTime = at
    lastOctets = octets((w) => wholeVarint(w, Math.round(at)))
  }
  return lastOctets
}

let lastNow = Number.NaN
let lastNowOctets: Uint8Array = none
/** The same for the times at which messages are made. */
export function nowOctets(now: number): Uint8Array {
  if (now !== lastNow) {
    lastNow = now
    lastNowOctets = octets((w) => w.varint(Math.round(now)))
  }
  return lastNowOctets
}

/** Whether the value is one of the type; others go as null. */
function usable(value: Scalar, dataType: DataType): boolean {
  if (value === null) return false
  if (dataType === 'number') return typeof value === 'number'
  if (dataType === 'integer') return isInt64(value)
  if (dataType === 'boolean') return typeof value === 'boolean'
  return typeof value === 'string' && (dataType !== 'time' || Number.isFinite(Date.parse(value)))
}

/** A good number's metric with its time and value still to be filled in: head, time of six octets, double. */
export function numberForm(head: Uint8Array): Uint8Array {
  return octets((w) => {
    w.u8(0x12)
    w.varint(head.length + 1 + 6 + 9)
    w.raw(head)
    w.u8(0x18)
    for (let i = 0; i < 6; i++) w.u8(0)
    w.u8(0x69)
    for (let i = 0; i < 8; i++) w.u8(0)
  })
}

/**
 * One metric; `head` are its name or alias and its datatype, written before. A bad one has no value, or, where that is wanted, the
 * last good one under the time that it had.
 */
export function metric(
  w: Writer,
  head: Uint8Array,
  dataType: DataType,
  cell: Cell,
  at: number,
  lastGood: boolean,
  encode: (s: string) => Uint8Array = text,
): void {
  const bad = cell.status >>> 31 === 1
  const old = bad && lastGood && usable(cell.goodValue, dataType)
  const value = old ? cell.goodValue : bad ? null : cell.value
  const when = timeOctets(old && !Number.isNaN(cell.goodTime) ? cell.goodTime : timeOr(cell, at))
  const there = usable(value, dataType)
  const set = cell.status >>> 30 === 0 ? none : propertiesOf(cell.status)
  let body: Uint8Array = none
  let size: number
  if (!there) size = 2
  else if (dataType === 'number') size = 9
  else if (dataType === 'boolean') size = 2
  else {
    body =
      dataType === 'text'
        ? encode(value as string)
        : octets((x) => {
            if (dataType === 'time') wholeVarint(x, Date.parse(value as string))
            else varint64(x, BigInt.asUintN(64, BigInt(value as number | bigint)))
          })
    size = 1 + body.length + (dataType === 'text' ? (body.length < 128 ? 1 : body.length < 16_384 ? 2 : body.length < 2_097_152 ? 3 : 4) : 0)
  }
  w.u8(0x12)
  w.varint(head.length + 1 + when.length + set.length + size)
  w.raw(head)
  w.u8(0x18)
  w.raw(when)
  w.raw(set)
  if (!there) {
    w.u8(0x38)
    w.u8(1)
  } else if (dataType === 'number') {
    w.u8(0x69)
    w.f64(value as number)
  } else if (dataType === 'boolean') {
    w.u8(0x70)
    w.u8(value ? 1 : 0)
  } else if (dataType === 'text') {
    w.u8(0x7a)
    w.varint(body.length)
    w.raw(body)
  } else {
    w.u8(0x58)
    w.raw(body)
  }
}

/** Milliseconds since 1970 as 64 bits (6.4.16); before it in two's complement, as a receiver with signed numbers reads them. */
function wholeVarint(w: Writer, n: number): void {
  if (n >= 0) w.varint(n)
  else varint64(w, BigInt.asUintN(64, BigInt(n)))
}

function varint64(w: Writer, n: bigint): void {
  while (n > 127n) {
    w.u8(Number(n & 127n) | 128)
    n >>= 7n
  }
  w.u8(Number(n))
}

/** Name or alias and datatype of each metric, as they stand in births and in data. */
export function heads(one: PlanEquipment, named: boolean, aliased: boolean, typed: boolean): Uint8Array[] {
  return one.members.map((m) =>
    octets((w) => {
      if (named) field(w, 0x0a, text(metricName(m)))
      if (aliased) {
        w.u8(0x10)
        w.varint(aliasOf(one, m))
      }
      if (typed) {
        w.u8(0x20)
        w.varint(DATATYPE[m.dataType])
      }
    }),
  )
}

/** A metric of the node itself. */
export function plainMetric(name: string, datatype: number, value: number | boolean | string, now: number): Uint8Array {
  return octets((w) => {
    field(w, 0x0a, text(name))
    w.u8(0x18)
    w.varint(now)
    w.u8(0x20)
    w.varint(datatype)
    if (typeof value === 'boolean') {
      w.u8(0x70)
      w.u8(value ? 1 : 0)
    } else if (typeof value === 'string') field(w, 0x7a, text(value))
    else {
      w.u8(0x58)
      w.varint(value)
    }
  })
}
