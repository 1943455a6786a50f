import { displayValue } from './datatype'
import type { Scalar } from './deadband'

interface NumberFormat {
  group: boolean
  whole: number
  least: number
  most: number
  /** Least digits of the exponent; 0: no exponent. */
  exponent: number
}
type Format = { kind: 'number'; number: NumberFormat } | { kind: 'words'; no: string; yes: string } | { kind: 'hex'; digits: number }

/**
 * Reads a display format: a number pattern of UTS #35 (`0`, `0.00`, `#,##0.0##`, `0.00E0`), `hex` with a number of digits
 * (`hex4`), or two words for no and yes (`closed|open`).
 */
export function parseFormat(text: string): Format | { problem: string } {
  const pattern = text.trim()
  const hex = /^hex(\d{0,2})$/.exec(pattern)
  if (hex) return { kind: 'hex', digits: Math.min(16, Number(hex[1] || 0)) }
  if (pattern.includes('|')) {
    const [no, yes, more] = pattern.split('|').map((s) => s.trim())
    return no && yes && more === undefined ? { kind: 'words', no, yes } : { problem: 'Two words like closed|open' }
  }
  const m = /^(#,##0|#+0+|0+)(?:\.(0*)(#*))?(?:E(0+))?$/.exec(pattern)
  if (!m || pattern.endsWith('.')) return { problem: 'A number pattern like 0.00 or #,##0.0 or 0.00E0, hex4, or words like closed|open' }
  const least = m[2]?.length ?? 0
  const most = least + (m[3]?.length ?? 0)
  if (most > 12) return { problem: 'At most 12 decimals' }
  return {
    kind: 'number',
    number: { group: m[1]!.includes(','), whole: m[1]!.replace(/[#,]/g, '').length, least, most, exponent: m[4]?.length ?? 0 },
  }
}

/** Decimals without the zeros that need not be there. */
function trimmed(digits: string, least: number): string {
  const at = digits.indexOf('.')
  if (at < 0) return digits
  let end = digits.length
  while (end > at + 1 + least && digits[end - 1] === '0') end--
  return digits.slice(0, end === at + 1 ? at : end)
}

function formatNumber(f: NumberFormat, value: number): string {
  if (!Number.isFinite(value)) return String(value)
  if (f.exponent > 0) {
    const [mantissa, exponent] = value.toExponential(f.most).split('e')
    const e = Number(exponent)
    return `${trimmed(mantissa!, f.least)}E${e < 0 ? '-' : ''}${String(Math.abs(e)).padStart(f.exponent, '0')}`
  }
  // Beyond this toFixed writes an exponent.
  if (Math.abs(value) >= 1e21) return String(value)
  const [whole, decimals] = trimmed(Math.abs(value).toFixed(f.most), f.least).split('.')
  const padded = whole!.padStart(f.whole, '0')
  const grouped = f.group ? padded.replace(/\B(?=(\d{3})+$)/g, ',') : padded
  const text = decimals === undefined ? grouped : `${grouped}.${decimals}`
  return value < 0 && /[1-9]/.test(text) ? `-${text}` : text
}

/** A whole number beyond 2^53 with all its digits; with an exponent it is shown rounded, as any other. */
function formatWhole(f: NumberFormat, value: bigint): string {
  if (f.exponent > 0) return formatNumber(f, Number(value))
  const digits = String(value < 0n ? -value : value)
  const grouped = f.group ? digits.replace(/\B(?=(\d{3})+$)/g, ',') : digits
  return `${value < 0n ? '-' : ''}${grouped}${f.least > 0 ? `.${'0'.repeat(f.least)}` : ''}`
}

const read = new Map<string, Format | null>()

/** A value as its tag wants it shown; what a format does not fit is shown as it would be without one. */
export function formatValue(value: Scalar, tag: { format: string; dataType: string }): string {
  if (tag.format === '' || value === null) return displayValue(value, tag.dataType === 'number')
  let format = read.get(tag.format)
  if (format === undefined) {
    const parsed = parseFormat(tag.format)
    if (read.size > 1000) read.clear()
    read.set(tag.format, (format = 'problem' in parsed ? null : parsed))
  }
  if (format?.kind === 'words' && typeof value === 'boolean') return value ? format.yes : format.no
  if (format?.kind === 'number' && typeof value === 'number') return formatNumber(format.number, value)
  if (format?.kind === 'number' && typeof value === 'bigint') return formatWhole(format.number, value)
  if (format?.kind === 'hex' && (typeof value === 'bigint' || (typeof value === 'number' && Number.isSafeInteger(value))) && value >= 0)
    return value.toString(16).toUpperCase().padStart(format.digits, '0')
  return displayValue(value, tag.dataType === 'number')
}
