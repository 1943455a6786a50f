import type { Scalar } from '../value/deadband'
import { Status } from '../value/quality'
import { decodeRegisters, decodeText, encodeRegisters, encodeText } from '../value/register'
import { whole } from '../value/whole'
import type { ModbusAddress } from './modbus-address'

/** Takes a value out of the answer to a request that began at `from`. Whole numbers of 64 bits keep all their digits; with a factor beyond 2^53 they cannot, and say so. */
export function takeValue(words: ArrayLike<number>, from: number, a: ModbusAddress): { value: Scalar; status: number; note?: string } {
  const at = a.offset - from
  if (a.type === 'bit') {
    const word = words[at]
    if (word === undefined) return short
    return { value: a.bit < 0 ? word !== 0 : ((word >>> a.bit) & 1) === 1, status: Status.good }
  }
  if (a.type === 'text') {
    const text = decodeText(words, at, a.length, a.order)
    return text === null ? short : { value: text, status: Status.good }
  }
  if (at + a.words > words.length) return short
  const raw = decodeRegisters(words, at, a.type, a.order)
  if (raw === null) return { value: null, status: Status.decoding, note: 'A half-byte above 9: these registers hold no packed decimal digits' }
  if (typeof raw === 'bigint' && a.factor === 1) return { value: whole(raw), status: Status.good }
  const n = Number(raw)
  if (typeof raw === 'bigint' && !Number.isSafeInteger(n))
    return { value: scaled(n, a.factor), status: Status.subNormal, note: `${raw} times ${a.factor} has more digits than a number holds` }
  if (!Number.isFinite(n)) return { value: null, status: Status.decoding, note: `The registers hold ${n}: byte order or type may be wrong` }
  return { value: scaled(a.type === 'float32' ? shortest(n) : n, a.factor), status: Status.good }
}

const short = { value: null, status: Status.communication, note: 'The answer was shorter than asked for' } as const

/** The shortest decimal that is this 32-bit float: 0.1, not 0.10000000149011612. */
function shortest(n: number): number {
  for (let p = 6; p < 9; p++) {
    const text = Number(n.toPrecision(p))
    if (Math.fround(text) === n) return text
  }
  return n
}

/** Multiplied without the dust of binary fractions: 123 times 0.1 is 12.3. */
function scaled(n: number, factor: number): number {
  return factor === 1 ? n : Number((n * factor).toPrecision(15))
}

/** The registers to be written for a value, or what is wrong with it. */
export function putValue(value: Scalar, a: ModbusAddress): number[] | { problem: string } {
  if (a.type === 'bit') return typeof value === 'boolean' || value === 0 || value === 1 ? [value ? 1 : 0] : { problem: 'A bit is true or false' }
  if (a.type === 'text') {
    if (typeof value !== 'string') return { problem: 'This is a text' }
    return encodeText(value, a.length, a.order) ?? { problem: `The text is longer than ${a.length} bytes` }
  }
  if (typeof value === 'bigint') {
    if (a.factor !== 1) return { problem: `${value} cannot be divided by ${a.factor} without losing digits` }
    return encodeRegisters(value, a.type, a.order) ?? { problem: `${value} does not fit ${a.type}` }
  }
  if (typeof value !== 'number' || !Number.isFinite(value)) return { problem: 'This is a number' }
  const raw = a.factor === 1 ? value : Number((value / a.factor).toPrecision(15))
  const nearest = a.type === 'float32' || a.type === 'float64' ? raw : Math.round(raw)
  if (nearest !== raw && Math.abs(nearest - raw) > 1e-9 * Math.max(1, Math.abs(raw)))
    return { problem: a.factor === 1 ? `${a.type} holds whole numbers` : `The device knows steps of ${Math.abs(a.factor)}` }
  return encodeRegisters(nearest, a.type, a.order) ?? { problem: `${value} does not fit ${a.type}` }
}
