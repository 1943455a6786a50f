/**
 * Values in 16-bit registers. MODBUS (Application Protocol V1.1b3 4.2) fixes only that of a register's two bytes the more significant is sent first; how
 * devices lay wider values into registers differs, and is named here by letters: A is the most significant byte, and the
 * letters stand in the order in which the bytes come over the wire. `CDAB`: the less significant word first, plain inside each.
 */

/** Numeric types and how many registers each takes. */
export const registerTypes = {
  int16: 1,
  uint16: 1,
  bcd16: 1,
  int32: 2,
  uint32: 2,
  float32: 2,
  bcd32: 2,
  int64: 4,
  uint64: 4,
  float64: 4,
} as const
export type RegisterType = keyof typeof registerTypes

const letters = 'ABCDEFGH'
const orders: Record<1 | 2 | 4, readonly string[]> = {
  1: ['AB', 'BA'],
  2: ['ABCD', 'CDAB', 'BADC', 'DCBA'],
  4: ['ABCDEFGH', 'GHEFCDAB', 'BADCFEHG', 'HGFEDCBA', 'CDABGHEF', 'EFGHABCD', 'DCBAHGFE', 'FEHGBADC'],
}

/** Every order in which so many registers can hold a value: bytes, words and, in 64 bits, halves each swapped or not. The plain one comes first. */
export function ordersOf(words: 1 | 2 | 4): readonly string[] {
  return orders[words]
}

/** The plain order of a type: most significant byte first. */
export const plainOrder = (words: number): string => letters.slice(0, words * 2)

const scratch = new DataView(new ArrayBuffer(8))

/** Brings the wire's bytes into most-significant-first order in `scratch`. */
function gather(words: ArrayLike<number>, at: number, count: number, order: string): void {
  for (let i = 0; i < count * 2; i++) {
    const word = words[at + (i >> 1)]!
    scratch.setUint8(order.charCodeAt(i) - 65, i % 2 === 0 ? word >>> 8 : word & 0xff)
  }
}

/** Reads packed decimal digits; null when a half-byte is none. */
function bcd(bytes: number): number | null {
  let value = 0
  for (let i = 0; i < bytes; i++) {
    const b = scratch.getUint8(i)
    if (b >>> 4 > 9 || (b & 15) > 9) return null
    value = value * 100 + (b >>> 4) * 10 + (b & 15)
  }
  return value
}

/**
 * Decodes the value that begins at `words[at]`; 64-bit integers come as bigint so that no digit is lost, a BCD with a
 * half-byte above 9 as null. `decodeRegisters([0x42f6, 0xe979], 0, 'float32', 'ABCD')` is 123.456 (as near as 32 bits come).
 */
export function decodeRegisters(words: ArrayLike<number>, at: number, type: RegisterType, order: string): number | bigint | null {
  const count = registerTypes[type]
  if (at + count > words.length) return null
  gather(words, at, count, order)
  switch (type) {
    case 'int16':
      return scratch.getInt16(0)
    case 'uint16':
      return scratch.getUint16(0)
    case 'int32':
      return scratch.getInt32(0)
    case 'uint32':
      return scratch.getUint32(0)
    case 'float32':
      return scratch.getFloat32(0)
    case 'int64':
      return scratch.getBigInt64(0)
    case 'uint64':
      return scratch.getBigUint64(0)
    case 'float64':
      return scratch.getFloat64(0)
    case 'bcd16':
      return bcd(2)
    case 'bcd32':
      return bcd(4)
  }
}

const ranges: Partial<Record<RegisterType, readonly [bigint, bigint]>> = {
  int16: [-(2n ** 15n), 2n ** 15n - 1n],
  uint16: [0n, 2n ** 16n - 1n],
  bcd16: [0n, 9999n],
  int32: [-(2n ** 31n), 2n ** 31n - 1n],
  uint32: [0n, 2n ** 32n - 1n],
  bcd32: [0n, 99_999_999n],
  int64: [-(2n ** 63n), 2n ** 63n - 1n],
  uint64: [0n, 2n ** 64n - 1n],
}

/** The registers that hold a value, or null when it does not fit the type: out of range, or a fraction in an integer. */
export function encodeRegisters(value: number | bigint, type: RegisterType, order: string): number[] | null {
  const count = registerTypes[type]
  const range = ranges[type]
  if (range) {
    if (typeof value === 'number' && !Number.isInteger(value)) return null
    const whole = BigInt(value)
    if (whole < range[0] || whole > range[1]) return null
    if (type === 'bcd16' || type === 'bcd32') {
      const digits = String(whole).padStart(count * 4, '0')
      for (let i = 0; i < count * 2; i++) scratch.setUint8(i, Number.parseInt(digits.slice(i * 2, i * 2 + 2), 16))
    } else if (count === 4) scratch.setBigInt64(0, BigInt.asIntN(64, whole))
    else if (count === 2) scratch.setInt32(0, Number(BigInt.asIntN(32, whole)))
    else scratch.setInt16(0, Number(BigInt.asIntN(16, whole)))
  } else {
    const n = Number(value)
    if (type === 'float32') {
      if (Number.isFinite(n) && !Number.isFinite(Math.fround(n))) return null
      scratch.setFloat32(0, n)
    } else scratch.setFloat64(0, n)
  }
  const out = new Array<number>(count).fill(0)
  for (let i = 0; i < count * 2; i++) out[i >> 1]! |= scratch.getUint8(order.charCodeAt(i) - 65) << (i % 2 === 0 ? 8 : 0)
  return out
}

/** Text in registers, two bytes each, up to the first NUL; UTF-8, or Latin-1 where it isn't. `BA`: the less significant one first. */
export function decodeText(words: ArrayLike<number>, at: number, length: number, order: string): string | null {
  if (at + Math.ceil(length / 2) > words.length) return null
  const bytes = new Uint8Array(length)
  const swapped = order === 'BA'
  for (let i = 0; i < length; i++) {
    const word = words[at + (i >> 1)]!
    bytes[i] = (i % 2 === 0) !== swapped ? word >>> 8 : word & 0xff
  }
  const end = bytes.indexOf(0)
  const used = end < 0 ? bytes : bytes.subarray(0, end)
  try {
    return new TextDecoder('utf-8', { fatal: true }).decode(used).trimEnd()
  } catch {
    return Array.from(used, (b) => String.fromCharCode(b))
      .join('')
      .trimEnd()
  }
}

/** The registers of a text, filled up with NUL; null when it is longer than `length` bytes of UTF-8. */
export function encodeText(text: string, length: number, order: string): number[] | null {
  const bytes = new TextEncoder().encode(text)
  if (bytes.length > length) return null
  const out = new Array<number>(Math.ceil(length / 2)).fill(0)
  bytes.forEach((b, i) => {
    out[i >> 1]! |= b << ((i % 2 === 0) !== (order === 'BA') ? 8 : 0)
  })
  return out
}

/** One way to read the registers that begin at a place. */
export interface Candidate {
  type: RegisterType
  order: string
  value: number | bigint | null
  /** Within the range that is expected, or, without one, of a size that measured values have. */
  plausible: boolean
}

/**
 * Whether a number looks like a measured value: inside the range that is expected, or, without one, not larger than any
 * counter; in neither case so small that only a wrong exponent explains it. NaN never does.
 */
export function looksMeasured(n: number, range: { low: number; high: number } | null): boolean {
  if (range) return n >= range.low && n <= range.high && (n === 0 || Math.abs(n) >= (range.high - range.low) * 1e-6)
  return Number.isFinite(n) && (n === 0 || (Math.abs(n) >= 1e-4 && Math.abs(n) < 1e9))
}

/** Whether all of these registers are there. */
function whole(words: ArrayLike<number | null>, at: number, count: number): words is ArrayLike<number> {
  for (let i = at; i < at + count; i++) if (typeof words[i] !== 'number') return false
  return true
}

/**
 * Every decoding of the registers from `at`, so that the eye can pick the right one. With a range the plausible ones are
 * those inside it; values that are no numbers never are.
 */
export function candidates(words: ArrayLike<number | null>, at: number, range: { low: number; high: number } | null, factor = 1): Candidate[] {
  const out: Candidate[] = []
  for (const [type, count] of Object.entries(registerTypes) as [RegisterType, 1 | 2 | 4][])
    for (const order of ordersOf(count)) {
      const value = whole(words, at, count) ? decodeRegisters(words, at, type, order) : null
      const n = value === null ? Number.NaN : Number(value) * factor
      out.push({ type, order, value, plausible: looksMeasured(n, range) })
    }
  return out
}
