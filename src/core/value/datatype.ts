import type { DataType } from '~/contract/tag'
import type { Scalar } from './deadband'
import { wholeOf } from './whole'

/**
 * Brings a value to the data type, or null when that can't be done without inventing something. Whole numbers keep all their
 * digits up to 64 bits; as a `number` they are the nearest double.
 */
export function conform(value: unknown, dataType: DataType): Scalar {
  if (value === null || value === undefined) return null
  switch (dataType) {
    case 'boolean':
      return typeof value === 'boolean' ? value : typeof value === 'number' ? value !== 0 : typeof value === 'bigint' ? true : null
    case 'integer':
      return typeof value === 'number' || typeof value === 'bigint' ? wholeOf(value) : typeof value === 'boolean' ? Number(value) : null
    case 'number':
      return typeof value === 'number' ? value : typeof value === 'bigint' || typeof value === 'boolean' ? Number(value) : null
    case 'text':
      return typeof value === 'string' ? value : String(value)
    case 'time':
      return value instanceof Date ? value.toISOString() : typeof value === 'string' ? value : null
  }
}

/** A value for people: at most three decimals; with `fraction` a whole number shows decimals too, so that a column doesn't jump. */
export function displayValue(value: Scalar, fraction = false): string {
  if (value === null) return '-'
  if (typeof value === 'boolean') return value ? 'true' : 'false'
  if (typeof value === 'string') return value
  if (typeof value === 'bigint') return String(value)
  if (!Number.isFinite(value)) return String(value)
  if (Number.isInteger(value) && !fraction) return String(value)
  const size = Math.abs(value)
  if (size !== 0 && (size < 1e-4 || size >= 1e9)) return value.toPrecision(5)
  return value.toFixed(size >= 100 ? 1 : size >= 10 ? 2 : 3)
}
