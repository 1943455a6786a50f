import type { PlanEquipment } from '~/contract/publication'
import type { Settings } from '~/contract/shape'
import type { DataType } from '~/contract/tag'
import type { Scalar } from '../value/deadband'
import { isInt64, whole as plain } from '../value/whole'
import { chooser, markOf, newest, readMark, Take } from './choose'
import { REGISTERED } from './flat-json'
import { OctetError, Reader, rememberedText, Writer } from './octets'
import type { Decoded, Encoder, Reading, Shape } from './shape'

type How = Settings<'avro'>

const TYPES: Record<DataType, string> = { number: 'double', integer: 'long', boolean: 'boolean', text: 'string', time: 'string' }

/** A name that Avro allows: letters, digits and underscores. */
const nameOf = (text: string) => text.replace(/[^A-Za-z0-9_]+/g, '_').replace(/^(?=\d)/, '_') || '_'

/** The schema of an equipment's messages: a record named after its class; what nests has its names joined by underscores. */
export function avroSchema(how: Pick<How, 'namespace'>, one: PlanEquipment) {
  return {
    type: 'record',
    name: nameOf(one.className),
    ...(how.namespace && { namespace: how.namespace }),
    fields: [
      { name: 'at', type: { type: 'long', logicalType: 'timestamp-millis' } },
      ...one.members.map((m) => ({
        name: nameOf(m.key),
        type: ['null', TYPES[m.dataType]],
        default: null,
        doc: [m.label, m.unit].filter((t) => t).join(', '),
      })),
      { name: 'quality', type: { type: 'map', values: 'string' }, doc: 'Members that are not good, and why' },
    ],
  }
}

/** Parsing canonical form (Avro 1.11, "Parsing Canonical Form for Schemas") of such a schema. */
export function canonical(how: Pick<How, 'namespace'>, one: PlanEquipment): string {
  const name = how.namespace ? `${how.namespace}.${nameOf(one.className)}` : nameOf(one.className)
  const fields = [
    '{"name":"at","type":"long"}',
    ...one.members.map((m) => `{"name":"${nameOf(m.key)}","type":["null","${TYPES[m.dataType]}"]}`),
    '{"name":"quality","type":{"type":"map","values":"string"}}',
  ]
  return `{"name":"${name}","type":"record","fields":[${fields.join(',')}]}`
}

const EMPTY = 0xc15d213aa4d7a795n
const table: bigint[] = Array.from({ length: 256 }, (_, i) => {
  let fp = BigInt(i)
  for (let j = 0; j < 8; j++) fp = (fp >> 1n) ^ (EMPTY & -(fp & 1n))
  return BigInt.asUintN(64, fp)
})

/** CRC-64-AVRO of a text ("Schema Fingerprints"). */
export function fingerprint(text: string): bigint {
  let fp = EMPTY
  for (const b of new TextEncoder().encode(text)) fp = (fp >> 8n) ^ table[Number((fp ^ BigInt(b)) & 0xffn)]!
  return fp
}

/** A long: zig-zag, then groups of seven bits, low first. */
function long(w: Writer, n: number | bigint): void {
  if (typeof n === 'bigint') return groups(w, n)
  if (n >= -0x40000000 && n < 0x40000000) {
    w.varint(((n << 1) ^ (n >> 31)) >>> 0)
    return
  }
  if (n > 0 && n < 0x10_0000_0000_0000) {
    w.varint(n * 2)
    return
  }
  groups(w, BigInt(n))
}

function groups(w: Writer, n: bigint): void {
  let z = BigInt.asUintN(64, (n << 1n) ^ (n >> 63n))
  while (z > 127n) {
    w.u8(Number(z & 127n) | 128)
    z >>= 7n
  }
  w.u8(Number(z))
}

const encoder = new TextEncoder()
function text(w: Writer, s: string, encode: (s: string) => Uint8Array = (t) => encoder.encode(t)): void {
  const octets = encode(s)
  long(w, octets.length)
  w.raw(octets)
}

/** What fits the type; undefined: null in its place. */
function write(w: Writer, value: Scalar, dataType: DataType, encode: (s: string) => Uint8Array): void {
  const wrong =
    dataType === 'integer'
      ? !isInt64(value)
      : dataType === 'number'
        ? typeof value !== 'number'
        : dataType === 'boolean'
          ? typeof value !== 'boolean'
          : false
  if (value === null || wrong) {
    w.u8(0)
    return
  }
  w.u8(2)
  if (dataType === 'integer') long(w, value as number | bigint)
  else if (typeof value === 'number' && dataType === 'number') w.f64(value)
  else if (typeof value === 'boolean' && dataType === 'boolean') w.u8(value ? 1 : 0)
  else text(w, String(value), encode)
}

function encoderOf(how: How, one: PlanEquipment): Encoder {
  const types = one.members.map((m) => m.dataType)
  const { take, choose } = chooser({ bad: how.bad }, types.length)
  const frame = new Writer(16)
  if (how.framing === 'single-object') {
    frame.u8(0xc3)
    frame.u8(0x01)
    frame.i64(BigInt.asIntN(64, fingerprint(canonical(how, one))))
  }
  const start = frame.take()
  const names = one.members.map((m) => nameOf(m.key))
  const texts = one.members.map(() => rememberedText())
  const w = new Writer()
  return ({ parts, now }) => {
    const part = parts[0]!
    choose(part, true)
    const { cells } = part
    const at = newest(cells, now)
    w.raw(start)
    long(w, Math.round(at))
    let odd = 0
    for (let i = 0; i < types.length; i++) {
      const t = take[i]!
      write(w, t === Take.value ? cells[i]!.value : t === Take.lastGood ? cells[i]!.goodValue : null, types[i]!, texts[i]!)
      if (cells[i]!.status >>> 30 !== 0 && t !== Take.nothing) odd++
    }
    if (odd > 0) {
      long(w, odd)
      for (let i = 0; i < types.length; i++)
        if (cells[i]!.status >>> 30 !== 0 && take[i] !== Take.nothing) {
          text(w, names[i]!)
          text(w, markOf(cells[i]!, take[i]!, at))
        }
    }
    w.u8(0)
    return { at, payload: w.take() }
  }
}

function readLong(r: Reader): number | bigint {
  const z = r.varint()
  return plain((z >> 1n) ^ -(z & 1n))
}
function readLength(r: Reader): number {
  const at = r.at
  const n = readLong(r)
  if (typeof n === 'bigint' || n < 0 || n > r.left) throw new OctetError(`A length of ${n} where ${r.left} octets are left`, at)
  return n
}

const frames = { 'single-object': ', with the fingerprint of its schema', plain: ', without a frame', registry: REGISTERED }

/**
 * Apache Avro: one datum of a schema that follows from the class. With the single-object frame its 8-octet fingerprint
 * (CRC-64-AVRO of the canonical form) goes first. All members are in it, those without a value as null.
 */
export const avroShape: Shape<'avro'> = {
  kind: 'avro',
  wholes: 'signed-64',
  label: 'Avro',
  standard: 'Apache Avro 1.11',
  reserved: () => ['at', 'quality'],
  contentType: (s) => (s.framing === 'single-object' ? 'application/vnd.apache.avro+single-object' : 'application/vnd.apache.avro'),
  grouping: () => 'equipment',
  summary: (s) => `Avro${frames[s.framing]}`,
  encoder: (settings, scope) => encoderOf(settings, scope.equipment[0]!),
  decoder(settings, scope) {
    const one = scope.equipment[0]!
    const own = fingerprint(canonical(settings, one))
    return (bytes): Decoded => {
      try {
        const r = new Reader(bytes)
        if (settings.framing === 'single-object') {
          if (r.u16(false) !== 0xc301) return { problem: 'It does not begin as a single object does (C3 01)', at: 0 }
          const schema = r.u64()
          if (schema !== own) return { problem: `It is of another schema: ${schema.toString(16).padStart(16, '0')}`, at: 2 }
        }
        const at = Number(readLong(r))
        const readings = one.members.map((m): Reading => {
          const branch = r.u8()
          let value: Reading['value'] = null
          if (branch === 2) {
            if (m.dataType === 'number') value = r.f64()
            else if (m.dataType === 'integer') value = readLong(r)
            else if (m.dataType === 'boolean') value = r.u8() !== 0
            else value = r.utf8(readLength(r))
          } else if (branch !== 0) throw new OctetError(`${m.key} is of branch ${branch >> 1}, there are two`, r.at - 1)
          return { equipment: null, member: m.key, value, quality: 'good', reason: '', time: at }
        })
        const byName = new Map(readings.map((reading) => [nameOf(reading.member), reading]))
        for (;;) {
          const from = r.at
          let n = readLong(r)
          if (n === 0) break
          if (typeof n === 'bigint' || Math.abs(n) > r.left) throw new OctetError('A block of more entries than octets are left', from)
          if (n < 0) {
            n = -n
            readLength(r)
          }
          for (let i = 0; i < n; i++) {
            const reading = byName.get(r.utf8(readLength(r)))
            const mark = readMark(r.utf8(readLength(r)))
            if (!reading || !mark) continue
            reading.quality = mark.quality
            reading.reason = mark.reason
            if (mark.ageMs !== null) reading.time = at - mark.ageMs
          }
        }
        if (r.left > 0) throw new OctetError(`${r.left} octets too many`, r.at)
        return { kind: 'state', at, readings }
      } catch (e) {
        if (e instanceof OctetError) return { problem: e.message, at: e.at }
        throw e
      }
    }
  },
  describe(settings, scope) {
    const one = scope.equipment[0]!
    return { language: 'avro', content: avroSchema(settings, one) }
  },
}
