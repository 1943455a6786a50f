import type { HeardTopic } from '~/contract/sources/mqtt'
import type { DataType } from '~/contract/tag'
import type { Scalar } from '../value/deadband'
import { exactJson, parseGuarded } from '../value/exact-json'
import { Status } from '../value/quality'
import { wholeFromText, wholeOf } from '../value/whole'
import { atPointer, dataTypeOf, leavesOf, parsePointer } from './json-leaf'
import { readSparkplug, sparkplugTopic, sparkplugType } from './sparkplug'

const utf8 = new TextDecoder('utf-8', { fatal: true })

/** A payload as text, or null when its bytes are none. */
export function textOf(bytes: Uint8Array): string | null {
  try {
    return utf8.decode(bytes)
  } catch {
    return null
  }
}

/** Deeper than this no JSON of a device is. */
const DEPTH_MAX = 100

/** Parses JSON from others, whole numbers unrounded: refuses what nests too deep, and throws a sentence. */
export function parseJson(text: string): unknown {
  const read = parseGuarded(text, DEPTH_MAX)
  if ('problem' in read) throw new Error(`${read.problem}${read.at === null ? '' : ` (at character ${read.at + 1})`}`)
  return read.json
}

export interface Taken {
  value: Scalar
  status: number
  /** Device time, epoch ms; null when the payload has none. */
  time: number | null
  note?: string
}

const bad = (status: number, note: string): Taken => ({ value: null, status, time: null, note })
const shown = (value: unknown) => {
  const text = typeof value === 'string' ? `"${value}"` : exactJson(value)
  return text.length > 60 ? `${text.slice(0, 57)}...` : text
}

/** Why a whole number of 64 bits is not what it was in a tag of numbers; every source says it so. */
export const rounded = (n: bigint) => `${n} has more digits than a number holds: make the tag an integer`
/** Why there is no value where a whole number is larger than any of 64 bits. */
export const beyond64 = (raw: unknown) => `${String(raw).slice(0, 60)} is beyond 64 bits`

/** What reads as a finite number, or null. */
function numberFrom(raw: unknown): number | null {
  if (typeof raw === 'boolean' || typeof raw === 'bigint') return Number(raw)
  const text = String(raw).trim()
  const n = typeof raw === 'number' ? raw : /^[+-]?(\d+\.?\d*|\.\d+)(e[+-]?\d+)?$/i.test(text) ? Number(text) : Number.NaN
  return Number.isFinite(n) ? n : null
}

/** A value from outside as the tag's type; text that reads as a number or as true or false is taken for it. */
export function takeAs(raw: unknown, dataType: DataType): { value: Scalar; status: number; note?: string } {
  if (raw === null || raw === undefined) return { value: null, status: Status.noData, note: 'There is no value there' }
  const wrong = { value: null, status: Status.typeMismatch, note: `${shown(raw)} is no ${dataType}` }
  if (typeof raw === 'object' && !(raw instanceof Date)) return dataType === 'text' ? { value: exactJson(raw), status: Status.good } : wrong
  switch (dataType) {
    case 'boolean': {
      if (typeof raw === 'boolean') return { value: raw, status: Status.good }
      const word = String(raw).trim().toLowerCase()
      if (['true', '1', 'on', 'yes'].includes(word)) return { value: true, status: Status.good }
      return ['false', '0', 'off', 'no'].includes(word) ? { value: false, status: Status.good } : wrong
    }
    case 'integer': {
      const n = typeof raw === 'bigint' ? raw : (wholeFromText(String(raw)) ?? numberFrom(raw))
      if (n === null) return wrong
      const value = wholeOf(n)
      return value === null ? { value, status: Status.outOfRange, note: beyond64(raw) } : { value, status: Status.good }
    }
    case 'number': {
      const n = numberFrom(raw)
      if (n === null) return wrong
      const digits = typeof raw === 'bigint' ? raw : wholeFromText(String(raw))
      if (typeof digits === 'bigint' && BigInt(n) !== digits) return { value: n, status: Status.subNormal, note: rounded(digits) }
      return { value: n, status: Status.good }
    }
    case 'text':
      return { value: raw instanceof Date ? raw.toISOString() : String(raw), status: Status.good }
    case 'time': {
      const at = raw instanceof Date ? raw.getTime() : timeOf(raw)
      return at === null ? wrong : { value: new Date(at).toISOString(), status: Status.good }
    }
  }
}

/** A time as devices write it: ISO 8601, epoch seconds or milliseconds; null when it is none. */
export function timeOf(raw: unknown): number | null {
  if (raw instanceof Date) return raw.getTime()
  const n = typeof raw === 'number' ? raw : typeof raw === 'string' && /^\d{9,16}(\.\d+)?$/.test(raw) ? Number(raw) : Number.NaN
  // Seconds until the year 5138, milliseconds from 1973.
  if (Number.isFinite(n)) return n > 1e14 || n < 1e8 ? null : n < 1e11 ? n * 1000 : n
  if (typeof raw !== 'string' || !/^\d{4}-\d{2}-\d{2}/.test(raw)) return null
  const at = Date.parse(raw)
  return Number.isNaN(at) ? null : at
}

/** What a quality field says: words, true or false, the 192 of old, or a status code (OPC 10000-4 7.39). */
export function statusOf(raw: unknown): number {
  if (raw === true || raw === 192) return Status.good
  if (raw === false) return 0x80000000
  if (typeof raw === 'number')
    return Number.isInteger(raw) && raw >= 0 && raw <= 0xffffffff
      ? raw > 0 && raw < 0x10000
        ? raw >= 192
          ? 0
          : raw >= 64
            ? 0x40000000
            : 0x80000000
        : raw
      : 0x80000000
  const word = String(raw).trim().toLowerCase()
  if (/^(good|ok|valid|true|1)\b/.test(word)) return Status.good
  if (/^(uncertain|questionable|suspect)\b/.test(word)) return 0x40000000
  if (/^stale\b/.test(word)) return Status.stale
  return 0x80000000
}

/** How a tag takes its value out of JSON: made once, then run on each message. */
export interface Reading {
  pointer: readonly string[]
  dataType: DataType
  /** Places of time and quality, already resolved against the value's own; null: there is none. */
  time: readonly string[] | null
  quality: readonly string[] | null
}

/** Resolves a named field: `/from/the/top`, or a name beside the value. */
export function fieldPlace(field: string, pointer: readonly string[]): readonly string[] | null {
  if (field === '') return null
  if (field.startsWith('/')) return parsePointer(field)
  return [...pointer.slice(0, -1), field]
}

/** Takes a leaf with its quality and time. */
export function takeLeaf(document: unknown, reading: Reading): Taken {
  const raw = atPointer(document, reading.pointer)
  if (raw === undefined) return bad(Status.noData, `The message has nothing at /${reading.pointer.join('/')}`)
  const taken = takeAs(raw, reading.dataType)
  let { status } = taken
  let time: number | null = null
  let note = taken.note
  if (reading.quality) {
    const said = atPointer(document, reading.quality)
    if (said !== undefined && status === Status.good) {
      status = statusOf(said)
      if (status !== Status.good) note = `The message says: ${shown(said)}`
    }
  }
  if (reading.time) {
    const said = atPointer(document, reading.time)
    if (said !== undefined) {
      time = timeOf(said)
      if (time === null) note ??= `${shown(said)} is no time`
    }
  }
  return { value: taken.value, status, time, ...(note && { note }) }
}

type Format = HeardTopic['format']

/** Guesses what a payload is, and which tags could be made of it. */
export function examine(topic: string, bytes: Uint8Array): Pick<HeardTopic, 'format' | 'sample' | 'leaves'> {
  if (bytes.length === 0) return { format: 'empty', sample: '', leaves: [] }
  const sparkplug = sparkplugTopic(topic)
  if (sparkplug && sparkplug.type !== 'STATE') {
    try {
      const payload = readSparkplug(bytes)
      return {
        format: 'sparkplug',
        sample: exactJson({ type: sparkplug.type, ...payload }, 1).slice(0, 4000),
        leaves: payload.metrics.flatMap((m) => {
          const dataType = sparkplugType(m.datatype)
          if (m.name === null || dataType === null || /^(bdSeq|Node Control\/)/.test(m.name)) return []
          return [
            { address: `${sparkplug.address}#${m.name}`, name: m.name, value: String(m.value ?? ''), dataType, ...(m.unit && { unit: m.unit }) },
          ]
        }),
      }
    } catch {
      // Not what the topic promises: shown as bytes below.
    }
  }
  const text = textOf(bytes)
  if (text === null || [...text.slice(0, 200)].some((c) => c < ' ' && !/\s/.test(c)))
    return { format: 'bytes', sample: Array.from(bytes.subarray(0, 1300), (b) => b.toString(16).padStart(2, '0')).join(' '), leaves: [] }
  const sample = text.slice(0, 4000)
  const plain = (format: Format, dataType: DataType) => ({
    format,
    sample,
    leaves: [{ address: topic, name: topic.split('/').at(-1) ?? topic, value: text.slice(0, 200), dataType }],
  })
  const trimmed = text.trim()
  if (/^[+-]?(\d+\.?\d*|\.\d+)(e[+-]?\d+)?$/i.test(trimmed)) return plain('number', typeof wholeFromText(trimmed) === 'bigint' ? 'integer' : 'number')
  if (/^(true|false)$/i.test(trimmed)) return plain('boolean', 'boolean')
  if (/^[[{]/.test(trimmed)) {
    try {
      const leaves = leavesOf(parseJson(trimmed))
      return {
        format: 'json',
        sample,
        leaves: leaves.map((l) => ({ address: `${topic}#${l.pointer}`, name: l.path, value: String(l.value).slice(0, 200), dataType: l.dataType })),
      }
    } catch {
      // A text that begins like JSON.
    }
  }
  return plain('text', dataTypeOf(trimmed))
}
