import type { PlanEquipment, PlanMember } from '~/contract/publication'
import type { Settings } from '~/contract/shape'
import type { DataType } from '~/contract/tag'
import type { Cell } from '../publication/cell'
import { type Metric, readSparkplug } from '../source/sparkplug'
import type { Scalar } from '../value/deadband'
import { qualityOf, reasonOf } from '../value/quality'
import { newest } from './choose'
import { rememberedText, Writer } from './octets'
import { fieldsOf } from './pubsub'
import type { Decoded, Encoded, Encoder, Input, Part, Reading, Scope, Shape } from './shape'

type How = Settings<'sparkplug-b'>

/** Datatypes (Sparkplug 3.0 6.4.16): Boolean, Int64, Double, String, DateTime. */
const DATATYPE: Record<DataType, number> = { boolean: 11, integer: 4, number: 10, text: 12, time: 13 }

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

const octets = (write: (w: Writer) => void): Uint8Array => {
  const w = new Writer(64)
  write(w)
  return w.take()
}
const encoder = new TextEncoder()
function field(w: Writer, tag: number, bytes: Uint8Array): void {
  w.u8(tag)
  w.varint(bytes.length)
  w.raw(bytes)
}
const text = (s: string) => encoder.encode(s)

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

const none: Uint8Array = new Uint8Array(0)
/** Octets of a time as a varint: those of one message are mostly the same. */
let lastTime = Number.NaN
let lastOctets: Uint8Array = none
function timeOctets(at: number): Uint8Array {
  if (at !== lastTime) {
    lastTime = at
    lastOctets = octets((w) => w.varint(Math.max(0, Math.round(at))))
  }
  return lastOctets
}

let lastNow = Number.NaN
let lastNowOctets: Uint8Array = none
/** The same for the times at which messages are made. */
function nowOctets(now: number): Uint8Array {
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
  if (dataType === 'integer') return typeof value === 'number' && Number.isSafeInteger(value)
  if (dataType === 'boolean') return typeof value === 'boolean'
  return typeof value === 'string' && (dataType !== 'time' || Number.isFinite(Date.parse(value)))
}

/** A good number's metric with its time and value still to be filled in: head, time of six octets, double. */
function numberForm(head: Uint8Array): Uint8Array {
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

/** One metric; `head` are its name or alias and its datatype, written before. Its length is known before it is written. */
function metric(w: Writer, head: Uint8Array, dataType: DataType, cell: Cell, at: number, encode: (s: string) => Uint8Array = text): void {
  const when = timeOctets(cell.time || at)
  const bad = cell.status >>> 31 === 1
  const value = bad ? cell.goodValue : cell.value
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
            if (dataType === 'time') x.varint(Math.max(0, Date.parse(value as string)))
            else varint64(x, BigInt.asUintN(64, BigInt(value as number)))
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

function varint64(w: Writer, n: bigint): void {
  while (n > 127n) {
    w.u8(Number(n & 127n) | 128)
    n >>= 7n
  }
  w.u8(Number(n))
}

/** Name or alias and datatype of each metric, as they stand in births and in data. */
function heads(one: PlanEquipment, named: boolean, aliased: boolean, typed: boolean): Uint8Array[] {
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

const numbered = new Writer()
/**
 * The number within the session (6.4.5), which is known only when the message is sent: appended as a field of its own, since
 * the order of fields is free (Protocol Buffers encoding).
 */
export function withSeq(payload: Uint8Array, seq: number): Uint8Array {
  numbered.raw(payload)
  numbered.u8(0x18)
  numbered.varint(seq & 255)
  return numbered.take()
}

/** The payload as it was before `withSeq`. */
export function withoutSeq(payload: Uint8Array): Uint8Array {
  const n = payload.length
  if (n >= 2 && payload[n - 2] === 0x18 && payload[n - 1]! < 128) return payload.subarray(0, n - 2)
  if (n >= 3 && payload[n - 3] === 0x18 && payload[n - 2]! >= 128 && payload[n - 1]! < 2) return payload.subarray(0, n - 3)
  return payload
}

/** Death of the node (6.4.22): the will of the connection; `bdSeq` ties it to the birth that follows. */
export function nodeDeath(bdSeq: number, now: number): Uint8Array {
  return octets((w) => {
    w.u8(0x08)
    w.varint(now)
    field(w, 0x12, plainMetric('bdSeq', 4, bdSeq, now))
  })
}

/** A metric of the node itself. */
function plainMetric(name: string, datatype: number, value: number | boolean | string, now: number): Uint8Array {
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

/** Birth of the node (6.4.19), without its number in the session. */
export function nodeBirth(bdSeq: number, now: number, facts: Readonly<Record<string, string>> = {}): Uint8Array {
  return octets((w) => {
    w.u8(0x08)
    w.varint(now)
    field(w, 0x12, plainMetric('bdSeq', 4, bdSeq, now))
    field(w, 0x12, plainMetric('Node Control/Rebirth', 11, false, now))
    for (const [name, value] of Object.entries(facts)) field(w, 0x12, plainMetric(`Properties/${name}`, 12, value, now))
  })
}

/** Birth of a device (6.4.20) with the values of this moment: all metrics with name, alias and datatype. Without its number. */
export function deviceBirth(
  how: Pick<How, 'aliases'>,
  one: PlanEquipment,
  all: readonly PlanEquipment[],
): (cells: readonly Cell[], now: number) => Uint8Array {
  const aliased = how.aliases && !ambiguous(all)
  const own = heads(one, true, aliased, true)
  const facts = Object.entries(one.facts)
  return (cells, now) =>
    octets((w) => {
      w.u8(0x08)
      w.varint(now)
      own.forEach((head, i) => {
        metric(w, head, one.members[i]!.dataType, cells[i]!, now)
      })
      for (const [name, value] of facts) field(w, 0x12, plainMetric(`Facts/${name}`, 12, String(value), now))
    })
}

function encoderOf(how: How, scope: Scope): Encoder {
  const one = scope.equipment[0]!
  const aliased = how.aliases && !scope.ambiguousAliases
  const own = heads(one, !aliased, aliased, !aliased)
  const forms = own.map((head, i) => (one.members[i]!.dataType === 'number' ? numberForm(head) : none))
  const types = one.members.map((m) => m.dataType)
  const texts = one.members.map(() => rememberedText())
  const onlyChanged = how.members === 'changed'
  const w = new Writer()
  const encode = (part: Part, now: number, chosen: readonly number[]): Encoded => {
    const at = newest(part.cells, now)
    w.u8(0x08)
    w.raw(nowOctets(now))
    for (const i of chosen) {
      const cell = part.cells[i]!
      const form = forms[i]!
      if (form !== none && cell.status >>> 30 === 0 && typeof cell.value === 'number') {
        const when = timeOctets(cell.time || at)
        if (when.length === 6) {
          w.form(form, when, cell.value)
          continue
        }
      }
      metric(w, own[i]!, types[i]!, cell, at, texts[i]!)
    }
    return { at, payload: w.take() }
  }
  return ({ parts, now, whole }: Input) => {
    const chosen = fieldsOf(parts[0]!, whole, onlyChanged)
    return chosen.length === 0 ? null : encode(parts[0]!, now, chosen)
  }
}

/**
 * Sparkplug B 3.0: device data (DDATA) with a metric a member; births, deaths and the number within a session are made where
 * the connection is. A bad value goes as the last good one, or null, with its quality as a property.
 */
export const sparkplugB: Shape<'sparkplug-b'> = {
  kind: 'sparkplug-b',
  label: 'Sparkplug B',
  standard: 'Sparkplug 3.0',
  reserved: () => [],
  contentType: () => 'application/x-protobuf',
  grouping: () => 'equipment',
  summary: (s) => `Sparkplug B, edge node ${s.group}/${s.node}, a device an equipment${s.aliases ? ', aliases' : ''}`,
  problems(_s, equipment) {
    const names = new Map<string, number>()
    for (const one of equipment) names.set(deviceId(one), (names.get(deviceId(one)) ?? 0) + 1)
    return [...names].filter(([, n]) => n > 1).map(([name, n]) => `${n} equipment would be the device ${name}: give them aliases`)
  },
  encoder: encoderOf,
  decoder(settings, scope) {
    const one = scope.equipment[0]!
    const byAlias = new Map(one.members.map((m) => [aliasOf(one, m), m]))
    const byName = new Map(one.members.map((m) => [metricName(m), m]))
    const memberOf = (metric: Metric) =>
      (metric.name === null ? undefined : byName.get(metric.name)) ??
      (metric.alias === null || !settings.aliases ? undefined : byAlias.get(metric.alias))
    return (bytes): Decoded => {
      try {
        const read = readSparkplug(bytes, (metric) => {
          const m = memberOf(metric)
          return m ? DATATYPE[m.dataType] : null
        })
        const readings = read.metrics.flatMap((metric): Reading[] => {
          const m = memberOf(metric)
          if (!m) return []
          return [
            {
              equipment: null,
              member: m.key,
              value: metric.value ?? null,
              quality: qualityOf(metric.status),
              reason: metric.reason ?? '',
              time: metric.time,
            },
          ]
        })
        return { kind: 'data', at: read.time, readings }
      } catch (e) {
        return { problem: e instanceof Error ? `It is no Sparkplug payload: ${e.message}` : 'It is no Sparkplug payload', at: null }
      }
    }
  },
  describe(settings, scope) {
    return {
      language: 'text',
      content: {
        standard: 'Sparkplug 3.0, payload B (Protocol Buffers)',
        node: `${settings.group}/${settings.node}`,
        devices: scope.equipment.map((one) => ({
          device: deviceId(one),
          metrics: one.members.map((m) => ({
            name: metricName(m),
            ...(settings.aliases && { alias: aliasOf(one, m) }),
            datatype: DATATYPE[m.dataType],
            ...(m.unit && { unit: m.unit }),
          })),
        })),
      },
    }
  },
}

/** A payload that holds another, compressed (6.4.17): `uuid` says so, the metric `algorithm` how. */
export function compressed(algorithm: 'gzip' | 'deflate', body: Uint8Array, now: number): Uint8Array {
  return octets((w) => {
    w.u8(0x08)
    w.varint(Math.round(now))
    field(w, 0x12, plainMetric('algorithm', 12, algorithm.toUpperCase(), Math.round(now)))
    field(w, 0x22, text('SPBV1.0_COMPRESSED'))
    field(w, 0x2a, body)
  })
}
