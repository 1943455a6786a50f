// Whole numbers of 64 bits: those that a double holds exactly (up to 2^53 - 1) are numbers, larger ones bigint. A value has
// one form only, so that two of them can be compared with ===.

const LEAST_64 = -(2n ** 63n)
/** The largest that a signed integer of 64 bits holds (OPC 10000-6 5.1.2 Int64, Avro long, Sparkplug Int64). */
const MOST_SIGNED_64 = 2n ** 63n - 1n
const MOST_64 = 2n ** 64n - 1n

/** The one form of a whole number: `whole(42n)` is 42, `whole(2n ** 53n)` stays bigint. */
export function whole(n: bigint): number | bigint {
  return n >= BigInt(Number.MIN_SAFE_INTEGER) && n <= BigInt(Number.MAX_SAFE_INTEGER) ? Number(n) : n
}

/**
 * A number cut to a whole one, in its one form; null for what no integer of 64 bits holds (below -2^63, above 2^64 - 1) and for NaN.
 * A double beyond 2^53 stands for exactly one whole number, which is taken.
 */
export function wholeOf(n: number | bigint): number | bigint | null {
  if (typeof n === 'number') {
    if (Number.isNaN(n)) return null
    const cut = Math.trunc(n)
    if (Number.isSafeInteger(cut)) return cut
    if (!Number.isFinite(cut)) return null
    n = BigInt(cut)
  }
  return n < LEAST_64 || n > MOST_64 ? null : whole(n)
}

const DIGITS = /^[+-]?\d{1,20}$/

/** A whole number that was written out in digits, exact; null when it is none, or beyond 64 bits. */
export function wholeFromText(text: string): number | bigint | null {
  const trimmed = text.trim()
  return DIGITS.test(trimmed) ? wholeOf(BigInt(trimmed.replace(/^\+/, ''))) : null
}

/** Whether it fits a signed integer of 64 bits. */
export const fitsSigned64 = (n: number | bigint): boolean => typeof n === 'number' || (n >= LEAST_64 && n <= MOST_SIGNED_64)

/** Whether a value is one that an Int64 holds, in its one form. */
export const isInt64 = (value: unknown): value is number | bigint =>
  typeof value === 'bigint' ? fitsSigned64(value) : typeof value === 'number' && Number.isSafeInteger(value)
