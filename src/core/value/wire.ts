import type { WireScalar } from '~/contract/value'
import type { Scalar } from './deadband'
import { wholeFromText } from './whole'

/** A value as JSON takes it: whole numbers beyond 2^53 as their digits, what is no finite number as null. */
export function toWire(value: Scalar): WireScalar {
  if (typeof value === 'bigint') return { whole: String(value) }
  return typeof value === 'number' && !Number.isFinite(value) ? null : value
}

/** The way back; digits beyond 64 bits are no value. */
export function fromWire(value: WireScalar): Scalar {
  return typeof value === 'object' && value !== null ? wholeFromText(value.whole) : value
}
