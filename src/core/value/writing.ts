import type { Tag } from '~/contract/tag'
import type { Scalar } from './deadband'
import { typedNumber } from './typed-number'
import { wholeFromText } from './whole'

/** What stands against writing a value to a tag, as a sentence; null: nothing. */
export function writeProblem(tag: Pick<Tag, 'access' | 'dataType' | 'range' | 'unit' | 'simulated'>, value: Scalar): string | null {
  if (tag.access !== 'read-write') return 'This tag is read-only'
  if (tag.simulated) return 'It is on simulation: nothing would reach the device'
  switch (tag.dataType) {
    case 'boolean':
      return typeof value === 'boolean' ? null : 'true or false'
    case 'text':
      return typeof value === 'string' ? null : 'A text'
    case 'time':
      return typeof value === 'string' && !Number.isNaN(Date.parse(value)) ? null : 'A time like 2026-01-31T08:00:00Z'
    default:
      if (typeof value !== 'bigint' && (typeof value !== 'number' || !Number.isFinite(value))) return 'A number'
      if (tag.dataType === 'integer' && typeof value === 'number') {
        if (!Number.isInteger(value)) return 'A whole number'
        if (!Number.isSafeInteger(value)) return 'A whole number in digits, from -2^63 to 2^64 - 1'
      }
      if (tag.range && (value < tag.range.low || value > tag.range.high)) return `From ${tag.range.low} to ${tag.range.high} ${tag.unit}`.trim()
      return null
  }
}

/** What was typed, as a value of the tag's type; text that is none comes back as it is, for `writeProblem` to refuse. */
export function typedValue(text: string, dataType: Tag['dataType']): Scalar {
  const trimmed = text.trim()
  if (dataType === 'boolean') return trimmed === 'true' ? true : trimmed === 'false' ? false : text
  if (dataType === 'integer') {
    const exact = wholeFromText(trimmed)
    if (exact !== null) return exact
  }
  if (dataType === 'number' || dataType === 'integer') return typedNumber(trimmed) ?? text
  return text
}
