import type { Deadband, Range } from '~/contract/tag'

/** A value of a tag. Whole numbers beyond 2^53 are bigint and only those (see whole.ts), so that none is rounded. */
export type Scalar = number | bigint | string | boolean | null

/**
 * Width of a deadband in the value's own unit; percent is of the range high - low (OPC 10000-8 5.2). Percent without a range
 * has no width: then every change counts, rather than none.
 */
export function deadbandWidth(deadband: Deadband | null, range: Range | null = null): number {
  if (!deadband) return 0
  if (deadband.kind === 'absolute') return deadband.size
  return range ? (Math.abs(range.high - range.low) * deadband.size) / 100 : 0
}

/**
 * Whether `next` is far enough from `sent` to count as a change: beyond the width for numbers, any difference
 * for the rest and for a change of kind or to and from NaN.
 */
export function isChange(sent: Scalar, next: Scalar, width: number): boolean {
  if (typeof sent === 'bigint' || typeof next === 'bigint') return wholeChange(sent, next, width)
  if (typeof sent !== 'number' || typeof next !== 'number') return sent !== next
  if (Number.isNaN(sent) || Number.isNaN(next)) return !Object.is(sent, next)
  const moved = Math.abs(next - sent)
  return width === 0 ? moved > 0 : moved > width
}

/** The same where one is beyond 2^53: the distance is taken before anything is rounded. */
function wholeChange(sent: Scalar, next: Scalar, width: number): boolean {
  const both = isWhole(sent) && isWhole(next)
  return both && width > 0 ? Number(abs(BigInt(next) - BigInt(sent))) > width : sent !== next
}

const isWhole = (v: Scalar): v is number | bigint => typeof v === 'bigint' || (typeof v === 'number' && Number.isInteger(v))
const abs = (n: bigint) => (n < 0n ? -n : n)
