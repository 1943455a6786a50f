import type { Settings, TimeForm } from '~/contract/shape'
import type { DataType } from '~/contract/tag'
import type { Scalar } from '../value/deadband'
import { wholeFromText } from '../value/whole'

export type TextHow = Pick<Settings<'flat-json'>, 'decimals' | 'nonFinite' | 'wholes' | 'time' | 'zone'>

/** A number in decimal notation as JSON has it (RFC 8259 6): with so many decimals at most, without trailing zeros. */
export function decimal(n: number, decimals: number | null): string {
  if (decimals === null || Number.isInteger(n) || Math.abs(n) >= 1e21) return String(n)
  const fixed = n.toFixed(decimals)
  if (decimals === 0) return fixed === '-0' ? '0' : fixed
  let end = fixed.length
  while (fixed.charCodeAt(end - 1) === 48) end--
  if (fixed.charCodeAt(end - 1) === 46) end--
  const text = fixed.slice(0, end)
  return text === '-0' ? '0' : text
}

/** Makes the writer of values in JSON. What is not finite is null or a text; whole numbers beyond 2^53 may go as text. */
export function jsonValue(how: Pick<TextHow, 'decimals' | 'nonFinite' | 'wholes'>): (value: Scalar) => string {
  const { decimals } = how
  const large = how.wholes === 'text'
  const named = how.nonFinite === 'text'
  return (value) => {
    if (typeof value === 'number') {
      if (!Number.isFinite(value)) return named ? `"${value}"` : 'null'
      if (large && Number.isInteger(value) && !Number.isSafeInteger(value)) return `"${BigInt(value)}"`
      return decimals === null ? String(value) : decimal(value, decimals)
    }
    if (typeof value === 'bigint') return large ? `"${value}"` : String(value)
    if (typeof value === 'boolean') return value ? 'true' : 'false'
    return value === null ? 'null' : JSON.stringify(value)
  }
}

/** The same with memory: a member that has not changed since the last message is not written anew. One for each member. */
export function rememberedValue(text: (value: Scalar) => string): (value: Scalar) => string {
  let last: Scalar | undefined
  let written = ''
  return (value) => {
    // NaN is never the same as itself, and is written anew; 0 and -0 read the same.
    if (value !== last) {
      written = text(value)
      last = value
    }
    return written
  }
}

/** The same as bare text: no quotes, nothing for no value. */
export function plainValue(how: Pick<TextHow, 'decimals' | 'nonFinite'>): (value: Scalar) => string {
  const { decimals } = how
  const named = how.nonFinite === 'text'
  return (value) => {
    if (typeof value === 'number')
      return Number.isFinite(value) ? (decimals === null ? String(value) : decimal(value, decimals)) : named ? String(value) : ''
    return value === null ? '' : String(value)
  }
}

const QUARTER = 900_000

/** Offset from UTC in minutes, at each quarter of an hour looked up once: offsets change at no other moments. */
function offsets(zone: string): (at: number) => number {
  const format = new Intl.DateTimeFormat('en-US', {
    timeZone: zone,
    hourCycle: 'h23',
    year: 'numeric',
    month: 'numeric',
    day: 'numeric',
    hour: 'numeric',
    minute: 'numeric',
    second: 'numeric',
  })
  let quarter = Number.NaN
  let offset = 0
  return (at) => {
    const now = Math.floor(at / QUARTER)
    if (now !== quarter) {
      quarter = now
      const parts = Object.fromEntries(format.formatToParts(now * QUARTER).map((p) => [p.type, Number(p.value)]))
      const local = Date.UTC(parts.year!, parts.month! - 1, parts.day, parts.hour, parts.minute, parts.second)
      offset = Math.round((local - now * QUARTER) / 60_000)
    }
    return offset
  }
}

const THREE = Array.from({ length: 1000 }, (_, n) => `${String(n).padStart(3, '0')}Z`)
let second = Number.NaN
let secondText = ''
/** As `toISOString`; what is the same for a whole second is written once. */
export function isoTime(at: number): string {
  const whole = Math.round(at)
  const s = Math.floor(whole / 1000)
  if (s !== second) {
    secondText = new Date(s * 1000).toISOString().slice(0, -4)
    second = s
  }
  return secondText + THREE[whole - s * 1000]!
}

/** Makes the writer of times, as bare text: `2026-03-04T14:07:12.481Z`, the same local with its offset, or a number. */
export function timeText(form: TimeForm, zone: string): (at: number) => string {
  switch (form) {
    case 'iso':
      return isoTime
    case 'epoch-ms':
      return (at) => String(Math.round(at))
    case 'epoch-s':
      return (at) => decimal(Math.round(at) / 1000, 3)
    case 'local': {
      const offset = offsets(zone)
      return (at) => {
        const minutes = offset(at)
        const size = Math.abs(minutes)
        const two = (n: number) => (n < 10 ? `0${n}` : String(n))
        return `${new Date(at + minutes * 60_000).toISOString().slice(0, -1)}${minutes < 0 ? '-' : '+'}${two(Math.floor(size / 60))}:${two(size % 60)}`
      }
    }
  }
}

/** The same in JSON: texts in quotes. */
export function jsonTime(form: TimeForm, zone: string): (at: number) => string {
  const text = timeText(form, zone)
  return form === 'iso' || form === 'local' ? (at) => `"${text(at)}"` : text
}

/** Reads a time that was written so; null when it is none. */
export function readTime(raw: unknown, form: TimeForm): number | null {
  if (form === 'iso' || form === 'local') {
    const at = typeof raw === 'string' ? Date.parse(raw) : Number.NaN
    return Number.isFinite(at) ? at : null
  }
  const n = typeof raw === 'number' ? raw : typeof raw === 'string' && raw.trim() !== '' ? Number(raw) : Number.NaN
  return Number.isFinite(n) ? Math.round(form === 'epoch-s' ? n * 1000 : n) : null
}

const NAMED = new Map([
  ['NaN', Number.NaN],
  ['Infinity', Number.POSITIVE_INFINITY],
  ['-Infinity', Number.NEGATIVE_INFINITY],
])

/** A value that stands in JSON, as the member's type; undefined when it is none of that type. */
export function fromJson(raw: unknown, dataType: DataType): Scalar | undefined {
  if (raw === null || raw === undefined) return null
  switch (dataType) {
    case 'number':
    case 'integer':
      if (typeof raw === 'bigint') return dataType === 'integer' ? raw : Number(raw)
      if (typeof raw === 'number') return raw
      if (typeof raw === 'boolean') return Number(raw)
      if (typeof raw !== 'string') return undefined
      if (NAMED.has(raw)) return NAMED.get(raw)!
      return (dataType === 'integer' ? wholeFromText(raw) : null) ?? (/^-?(\d+\.?\d*|\.\d+)(e[+-]?\d+)?$/i.test(raw.trim()) ? Number(raw) : undefined)
    case 'boolean':
      return typeof raw === 'boolean' ? raw : raw === 'true' ? true : raw === 'false' ? false : undefined
    default:
      return typeof raw === 'string' ? raw : typeof raw === 'object' ? undefined : String(raw)
  }
}
