import Qty from 'js-quantities'
import { unitOf } from './unit'

/** From one unit to another along a line: `value * factor + offset`. */
export interface Conversion {
  factor: number
  offset: number
}
export const same: Conversion = { factor: 1, offset: 0 }

/** How the table of quantities writes what we write otherwise; units that it does not know at all have null. */
const written: Record<string, string | null> = {
  '°C': 'tempC',
  '°F': 'tempF',
  K: 'tempK',
  'm²': 'm2',
  'm³': 'm3',
  'm³/h': 'm3/h',
  'm³/min': 'm3/min',
  'm³/s': 'm3/s',
  'kg/m³': 'kg/m3',
  'm/s²': 'm/s2',
  'g/m³': 'g/m3',
  'mg/m³': 'mg/m3',
  '°': 'deg',
  µm: 'um',
  'µS/cm': 'uS/cm',
  Ω: 'Ohm',
  Nm: 'N*m',
  Wh: 'W*h',
  kWh: 'kW*h',
  MWh: 'MW*h',
  'mg/l': 'mg/L',
  l: 'L',
  ml: 'mL',
  'l/min': 'L/min',
  'l/s': 'L/s',
  'l/h': 'L/h',
  t: 'tonne',
  't/h': 'tonne/h',
  'km/h': 'km/h',
  '1/min': 'rpm',
  lx: 'lux',
  pcs: null,
  pH: null,
  '1': null,
}

const found = new Map<string, Conversion | null>()

/**
 * How a value in one unit becomes one in another; null when they measure different things, or one is not known. The same
 * unit, however written, is `same`. Powers, apparent powers and torques convert only among themselves.
 */
export function conversion(from: string, to: string): Conversion | null {
  if (from === to) return same
  const key = `${from}\n${to}`
  const known = found.get(key)
  if (known !== undefined) return known
  if (found.size > 2000) found.clear()
  const made = convert(from, to)
  found.set(key, made)
  return made
}

function convert(from: string, to: string): Conversion | null {
  const a = unitOf(from)
  const b = unitOf(to)
  if (a && a === b) return same
  if (a && b && a.quantity !== b.quantity) return null
  const ours = (unit: ReturnType<typeof unitOf>, text: string) => (unit && unit.symbol in written ? written[unit.symbol]! : (unit?.symbol ?? text))
  const source = ours(a, from)
  const target = ours(b, to)
  if (!source || !target) return null
  try {
    const run = Qty.swiftConverter(source, target)
    const offset = tidy(run(0) as number)
    // From a far point, so that an offset does not eat the digits of the factor.
    const factor = tidy(((run(1e6) as number) - (run(0) as number)) / 1e6)
    return Number.isFinite(factor) && factor !== 0 && Number.isFinite(offset) ? { factor, offset } : null
  } catch {
    // Not known to the table, or not of one kind: it tells both by throwing.
    return null
  }
}

/** Without the last digits that come from computing: 1.7999999999999998 is 1.8. */
const tidy = (n: number) => Number(n.toPrecision(14))

/** One conversion after another. */
export const chained = (first: Conversion, next: Conversion): Conversion =>
  next === same ? first : first === same ? next : { factor: first.factor * next.factor, offset: first.offset * next.factor + next.offset }

/** `'× 1.8 + 32'`; nothing when nothing changes. */
export function conversionText({ factor, offset }: Conversion): string {
  const parts = [
    factor !== 1 &&
      (factor < 1 && Number.isInteger(Number((1 / factor).toPrecision(12))) ? `÷ ${Number((1 / factor).toPrecision(12))}` : `× ${factor}`),
    offset !== 0 && `${offset < 0 ? '−' : '+'} ${Math.abs(offset)}`,
  ]
  return parts.filter(Boolean).join(' ')
}
