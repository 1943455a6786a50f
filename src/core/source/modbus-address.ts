import type { RegisterNotation } from '~/contract/sources/modbus'
import { ordersOf, plainOrder, type RegisterType, registerTypes } from '../value/register'

export type Area = 'coil' | 'discrete' | 'input' | 'holding'

/** Where a tag's value lies in a Modbus device, and how it is laid out there. */
export interface ModbusAddress {
  unit: number
  area: Area
  /** From zero, as on the wire. */
  offset: number
  type: RegisterType | 'bit' | 'text'
  /** Bit in the register, 0 the least significant; -1 for whole coils and registers. */
  bit: number
  /** Registers or bits that it takes. */
  words: number
  /** Bytes of a text. */
  length: number
  /** Letters as in `register.ts`; empty for bits. */
  order: string
  /** The raw value is multiplied by this. */
  factor: number
}

const digits: Record<string, Area> = { '0': 'coil', '1': 'discrete', '3': 'input', '4': 'holding' }
const digitOf: Record<Area, string> = { coil: '0', discrete: '1', input: '3', holding: '4' }
const isBits = (area: Area) => area === 'coil' || area === 'discrete'
const places = 'a place like holding@12 (from 0), holding#13 (from 1) or 40013'

/** Reads one part as a place; null when it is none. */
function place(text: string): { area: Area; offset: number; bit: number } | null {
  const named = /^(coil|discrete|input|holding)([@#])(\d{1,5})(?:\.(\d{1,2}))?$/i.exec(text)
  const reference = /^([0134])(\d{4,5})(?:\.(\d{1,2}))?$/.exec(text)
  const bit = named?.[4] ?? reference?.[3]
  if (named)
    return { area: named[1]!.toLowerCase() as Area, offset: Number(named[3]) - (named[2] === '#' ? 1 : 0), bit: bit === undefined ? -1 : Number(bit) }
  if (reference) return { area: digits[reference[1]!]!, offset: Number(reference[2]) - 1, bit: bit === undefined ? -1 : Number(bit) }
  return null
}

/**
 * Reads a Modbus address: unit id, place, then type, byte order and factor where they are not the usual ones.
 * `3 holding@12 float32 CDAB`, `1 40013 int16 x0.1`, `1 input@7.3` (bit 3 of a register), `2 coil@5`, `1 holding#101 text/20`.
 * Gives what is wrong as a sentence when it can't be read.
 */
export function parseModbusAddress(text: string): ModbusAddress | { problem: string } {
  const parts = text.trim().split(/\s+/)
  const unit = Number(parts[0])
  if (!/^\d{1,3}$/.test(parts[0] ?? '') || unit > 255) return { problem: 'Begin with a unit id from 0 to 255' }
  const where = place(parts[1] ?? '')
  if (!where) return { problem: `After the unit id comes ${places}` }
  const { area, offset, bit } = where
  if (offset < 0) return { problem: 'Counted from 1, there is no 0' }
  if (offset > 65_535) return { problem: 'Registers end at 65535' }
  if (bit > 15) return { problem: 'A register has bits 0 to 15' }
  if (isBits(area) && bit >= 0) return { problem: `A ${area} is a single bit already` }
  let type: ModbusAddress['type'] | null = null
  let length = 0
  let order = ''
  let factor = 1
  for (const raw of parts.slice(2)) {
    const part = raw.toLowerCase()
    const textType = /^text\/(\d{1,3})$/.exec(part)
    if (textType) {
      type = 'text'
      length = Number(textType[1])
      if (length < 1 || length > 240) return { problem: 'A text has 1 to 240 bytes' }
    } else if (part in registerTypes) type = part as RegisterType
    else if (part === 'bit') type = 'bit'
    else if (/^[a-h]{2,8}$/.test(part)) order = part.toUpperCase()
    else if (/^x-?\d*\.?\d+(e-?\d+)?$/.test(part)) factor = Number(part.slice(1))
    else return { problem: `${raw} is no type, byte order or factor; types are ${Object.keys(registerTypes).join(', ')} and text/20` }
  }
  if (isBits(area) || bit >= 0) {
    if ((type !== null && type !== 'bit') || order || factor !== 1) return { problem: 'A bit has no type, order or factor' }
    return { unit, area, offset, type: 'bit', bit, words: 1, length: 0, order: '', factor: 1 }
  }
  if (type === 'bit') return { problem: 'Which bit of the register? Like holding@7.3' }
  const known = type ?? 'uint16'
  const words = known === 'text' ? Math.ceil(length / 2) : registerTypes[known]
  if (known === 'text' && factor !== 1) return { problem: 'A text has no factor' }
  const allowed = known === 'text' ? ordersOf(1) : ordersOf(words as 1 | 2 | 4)
  if (order && !allowed.includes(order)) return { problem: `The byte order of ${known} is one of ${allowed.join(', ')}` }
  if (factor === 0) return { problem: 'A factor of 0 leaves nothing' }
  if (offset + words > 65_536) return { problem: 'It would reach beyond register 65535' }
  return { unit, area, offset, type: known, bit: -1, words, length, order: order || (known === 'text' ? 'AB' : plainOrder(words)), factor }
}

/** A place to look at: what the text says of unit and area, if anything, and the offset from zero. */
export interface TypedPlace {
  unit: number | null
  area: Area | null
  offset: number
}

/**
 * Reads where to look in any notation: a bare number counts as the source's notation does, `0x1F` from zero; `holding@12`,
 * `holding#13`, `40013` with six digits or in the notation of references, and whole addresses as `3 holding@12 float32`.
 */
export function readPlace(text: string, notation: RegisterNotation = 'offset'): TypedPlace | { problem: string } {
  const parts = text.trim().split(/\s+/)
  const [first, second] = [parts[0] ?? '', parts[1]]
  const within = (found: TypedPlace) =>
    found.offset < 0 ? { problem: 'Counted from 1, there is no 0' } : found.offset > 65_535 ? { problem: 'From 0 to 65535' } : found
  if (second !== undefined) {
    const whole = parseModbusAddress(text)
    if (!('problem' in whole)) return { unit: whole.unit, area: whole.area, offset: whole.offset }
    const where = /^\d{1,3}$/.test(first) && Number(first) <= 255 ? place(second) : null
    return where ? within({ unit: Number(first), area: where.area, offset: where.offset }) : { problem: `Write ${places}` }
  }
  const hex = /^0x([0-9a-f]{1,4})$/i.exec(first)
  if (hex) return { unit: null, area: null, offset: Number.parseInt(hex[1]!, 16) }
  const reference = notation === 'reference' || first.length === 6 ? place(first) : null
  if (reference && /^\d/.test(first)) return within({ unit: null, area: reference.area, offset: reference.offset })
  if (/^\d{1,5}$/.test(first)) return within({ unit: null, area: null, offset: Number(first) - (notation === 'number' ? 1 : 0) })
  const named = place(first)
  return named ? within({ unit: null, area: named.area, offset: named.offset }) : { problem: `Write ${places}, or a number` }
}

/** The place as people write it: `holding@12`, `holding#13` or `40013`. */
export function formatPlace(area: Area, offset: number, notation: RegisterNotation = 'offset'): string {
  if (notation === 'offset') return `${area}@${offset}`
  if (notation === 'number') return `${area}#${offset + 1}`
  return `${digitOf[area]}${String(offset + 1).padStart(offset < 9999 ? 4 : 5, '0')}`
}

/** Writes an address as it is stored (from 0), or in another notation; `parseModbusAddress` reads all of them. */
export function formatModbusAddress(a: ModbusAddress, notation: RegisterNotation = 'offset'): string {
  const parts = [String(a.unit), formatPlace(a.area, a.offset, notation) + (a.bit >= 0 ? `.${a.bit}` : '')]
  if (a.type === 'text') parts.push(`text/${a.length}`)
  else if (a.type !== 'bit' && (a.type !== 'uint16' || a.order !== 'AB' || a.factor !== 1)) parts.push(a.type)
  if (a.order !== '' && a.order !== (a.type === 'text' ? 'AB' : plainOrder(a.words))) parts.push(a.order)
  if (a.factor !== 1) parts.push(`x${a.factor}`)
  return parts.join(' ')
}
