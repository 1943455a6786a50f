import { parseExact } from './exact-json'
import { wholeFromText } from './whole'

/** The values of one row, by column. */
export type Row = Readonly<Record<string, unknown>>

const MOST_EXACT = 2n ** 64n

const number = (v: number | bigint): string => {
  if (typeof v === 'bigint') return v < MOST_EXACT && v > -MOST_EXACT ? v.toString() : String(Number(v))
  return Number.isInteger(v) && Math.abs(v) < 2 ** 64 ? BigInt(v).toString() : String(v)
}
const NUMBER = /^-?(0|[1-9]\d*)(\.\d+)?([eE][+-]?\d+)?$/
const TIME = /^(\d{4}-\d\d-\d\d)[T ](\d\d:\d\d:\d\d)(\.\d{1,9})?(Z|[+-]\d\d(?::?\d\d)?)?$/

function words(text: string): string {
  if (NUMBER.test(text)) return number(/^-?\d+$/.test(text) ? (wholeFromText(text) ?? Number(text)) : Number(text))
  const time = TIME.exec(text)
  if (time) {
    const [, day, clock, fraction = '', zone = 'Z'] = time
    const at = Date.parse(`${day}T${clock}${fraction.slice(0, 4)}${/^[+-]\d\d$/.test(zone) ? `${zone}:00` : zone}`)
    if (Number.isFinite(at)) return new Date(at).toISOString()
  }
  if (!/^[{[]/.test(text)) return text
  try {
    return plain(parseExact(text))
  } catch {
    return text
  }
}

function plain(v: unknown): string {
  if (typeof v === 'string') return words(v)
  if (typeof v === 'number' || typeof v === 'bigint') return number(v)
  if (Array.isArray(v)) return `[${v.map(plain).join('\u0001')}]`
  if (typeof v === 'object' && v !== null) return `{${fields(v as Row)}}`
  return String(v)
}

const fields = (row: Row): string =>
  Object.keys(row)
    .filter((k) => row[k] !== null && row[k] !== undefined)
    .sort()
    .map((k) => `${k}\u0002${plain(row[k])}`)
    .join('\u0001')

/**
 * Rows as one text that is the same before and behind a table: columns in the order of their names, without those that hold
 * nothing, and values without what a type adds or takes of their writing (`1.50` in a numeric column is 1.5, times are in UTC and ms).
 */
export const plainRows = (rows: readonly Row[]): string => rows.map(fields).join('\n')
