import { conversion } from '../value/convert'
import { decodeRegisters, encodeRegisters, ordersOf, plainOrder, type RegisterType, registerTypes } from '../value/register'
import { unitOf, units } from '../value/unit'
import { agreement, gridOf, type Points, pointsOf, type Tolerance, toleranceOf } from './points'
import { boundsOf, distinct, type Line, median, some, type Track } from './track'

/** What is recognised between what was held and what came. */
export type Relation =
  | { kind: 'factor'; factor: number /** As if it were in this unit; empty: in none that is known. */; unit: string }
  | { kind: 'offset'; offset: number }
  | { kind: 'line'; factor: number; offset: number }
  | { kind: 'unit'; is: string; said: string }
  | { kind: 'order'; type: RegisterType; order: string }
  | { kind: 'inverted' }
  | { kind: 'shift'; ms: number }

/** So many points say something, and so many different values. */
export const POINTS_LEAST = 8
const VALUES_LEAST = 4
/** So many of the points that say something have to agree. */
const AGREE = 0.95
/** What a time shift is looked for in: quarters of an hour, up to the widest time zone. */
const QUARTER_MS = 900_000
const SHIFT_MOST = 14 * 4
/** So many points tell a shift. */
const SHIFT_POINTS = 256
/** Another shift that fits as well as this makes both doubtful. */
const RIVAL = 0.6

/** What points have to say before anything is recognised in them. */
export const saysSomething = ({ a, b }: Points): boolean =>
  a.length >= POINTS_LEAST && distinct(a, VALUES_LEAST) >= VALUES_LEAST && distinct(b, VALUES_LEAST) >= VALUES_LEAST

/** Through a line the distances that are allowed stay those of what came. */
const fits = (points: Points, tolerance: Tolerance, { factor, offset }: Line) => agreement(points, tolerance, (a) => a * factor + offset) >= AGREE

/** Of factors those that people know. */
const known = [...Array.from({ length: 13 }, (_, i) => 10 ** (i - 6)), -1, 2, 0.5, 3.6, 1 / 3.6, 60, 1 / 60, 3600, 1 / 3600, 1024, 1 / 1024]

/** A factor that people know, where it is as near as what it was found from. */
const roundedFactor = (factor: number) => known.find((k) => Math.abs(factor / k - 1) < 1e-3) ?? Number(factor.toPrecision(5))

/** The units that measure the same as this one. */
const siblings = (unit: string): string[] => {
  const quantity = unitOf(unit)?.quantity
  return quantity ? units.filter((u) => u.quantity === quantity).map((u) => u.symbol) : []
}

const alike = (from: string, to: string): boolean => {
  const line = conversion(from, to)
  return line !== null && Math.abs(line.factor - 1) < 1e-9 && Math.abs(line.offset) < 1e-9
}

/** Said in a unit in which it is not, though the numbers are those that were held. */
export function saidWrongly(held: string, said: string): Relation | null {
  if (held === '' || said === '' || alike(held, said) || !conversion(held, said)) return null
  return { kind: 'unit', is: held, said }
}

/** The unit in which what came would be right; null: none. */
function unitBehind(points: Points, tolerance: Tolerance, units: { held: string; said: string }): { unit: string; line: Line } | null {
  const from = units.held || units.said
  for (const unit of siblings(from)) {
    const line = conversion(from, unit)
    if (line && !alike(from, unit) && fits(points, tolerance, line)) return { unit, line }
  }
  return null
}

/** A factor, an offset or both; null: no line goes through the points. */
function lineThrough(points: Points, tolerance: Tolerance): { factor: number; offset: number } | null {
  const { a, b } = points
  const factor = roundedFactor(median(a.flatMap((x, i) => (x === 0 ? [] : [b[i]! / x]))))
  const offset = median(a.map((x, i) => b[i]! - x))
  const span = boundsOf(a)!
  // What is smaller than what it moves has other reasons, such as time that passes on the way.
  const enough = Math.max(3 * tolerance.near, (span.high - span.low) * 0.005)
  const byFactor = Math.abs(factor - 1) > 0.002 && Number.isFinite(factor) && fits(points, tolerance, { factor, offset: 0 })
  const byOffset = Math.abs(offset) > enough && fits(points, tolerance, { factor: 1, offset })
  // Where little moves both may fit: the one that people know.
  if (byFactor && (!byOffset || known.includes(factor))) return { factor, offset: 0 }
  if (byOffset) return { factor: 1, offset: Number(offset.toPrecision(6)) }
  const line = slopeOf(points, tolerance)
  return line && median(a.map((x) => Math.abs(x * line.factor + line.offset - x))) > enough ? line : null
}

/** The middle slope between points that lie far apart. */
function slopeOf(points: Points, tolerance: Tolerance): Line | null {
  const { a, b } = points
  const order = a.map((_, i) => i).sort((i, j) => a[i]! - a[j]!)
  const half = order.length >> 1
  const slopes = order.slice(0, half).flatMap((i, n) => {
    const j = order[n + half]!
    return a[j]! > a[i]! ? [(b[j]! - b[i]!) / (a[j]! - a[i]!)] : []
  })
  const factor = median(slopes)
  const offset = median(a.map((x, i) => b[i]! - x * factor))
  const bounds = boundsOf(b)
  if (!bounds || !Number.isFinite(factor) || factor === 0) return null
  const wider = { near: Math.max(tolerance.near, (bounds.high - bounds.low) * 0.002), share: tolerance.share }
  return fits(points, wider, { factor, offset }) ? { factor: Number(factor.toPrecision(5)), offset: Number(offset.toPrecision(5)) } : null
}

/** Registers read in another order; `raw`: how what was held comes of registers. */
function orderIn({ a, b }: Points, raw: Line): Relation | null {
  const behind = (v: number) => (v - raw.offset) / raw.factor
  const came = b.map(behind)
  const near = gridOf(b) * 1e-3 * Math.abs(1 / raw.factor)
  for (const type of ['float32', 'int32', 'uint32', 'int16', 'uint16', 'float64'] as const) {
    const whole = type.includes('int')
    const held = a.map((v) => (whole ? Math.round(behind(v)) : behind(v)))
    if (whole && a.some((v, i) => Math.abs(behind(v) - held[i]!) > 1e-3)) continue
    const words = held.map((v) => encodeRegisters(v, type, plainOrder(registerTypes[type])))
    for (const order of ordersOf(registerTypes[type]).slice(1)) {
      const read = words.map((w) => (w ? Number(decodeRegisters(w, 0, type, order)) : Number.NaN))
      if (agreement({ a: read, b: came, at: [] }, { near, share: 1e-6 }) >= AGREE) return { kind: 'order', type, order }
    }
  }
  return null
}

/** Times that are off by quarters of an hour: one shift fits, and no other does. */
function shiftIn(held: Track, all: Track, until: number): Relation | null {
  const came = some(all, SHIFT_POINTS)
  const found: { ms: number; agree: number }[] = []
  for (let n = -SHIFT_MOST; n <= SHIFT_MOST; n++) {
    const points = pointsOf(held, came, { until, shiftMs: n * QUARTER_MS })
    const enough = saysSomething(points) && points.a.length >= came.at.length / 4
    if (enough) found.push({ ms: n * QUARTER_MS, agree: agreement(points, toleranceOf(points.a, points.b)) })
  }
  found.sort((x, y) => y.agree - x.agree)
  const [best, rival] = found
  if (!best || best.ms === 0 || best.agree < AGREE || (rival && rival.agree > RIVAL)) return null
  return { kind: 'shift', ms: best.ms }
}

/** What is compared: tracks in one unit as far as it is stated how one becomes the other. */
export interface Related {
  held: Track
  came: Track
  /** What was held counts up to then, epoch ms. */
  until: number
  units: { held: string; said: string }
  /** How what was held comes of registers; null: it does not. */
  raw: Line | null
  /** Only yes and no. */
  logical: boolean
  /** Names, not numbers. */
  named: boolean
}

/** What is between points that do not agree; null: nothing that is known. */
export function relationOf(points: Points, o: Related): Relation | null {
  if (o.logical) return invertedIn(points) ?? shiftIn(o.held, o.came, o.until)
  const shift = () => shiftIn(o.held, o.came, o.until)
  if (o.named || !saysSomething(points)) return shift()
  const tolerance = toleranceOf(points.a, points.b)
  const unit = unitBehind(points, tolerance, o.units)
  if (unit) {
    const { factor, offset } = unit.line
    const power = offset === 0 && Math.abs(Math.log10(Math.abs(factor)) % 1) < 1e-9
    return power ? { kind: 'factor', factor, unit: unit.unit } : { kind: 'unit', is: unit.unit, said: o.units.said || o.units.held }
  }
  // A line with both may be chance where something better is known.
  const line = lineThrough(points, tolerance)
  if (line?.offset === 0) return { kind: 'factor', factor: line.factor, unit: '' }
  if (line?.factor === 1) return { kind: 'offset', offset: line.offset }
  return (o.raw && orderIn(points, o.raw)) ?? shift() ?? (line && { kind: 'line', ...line })
}

function invertedIn({ a, b }: Points): Relation | null {
  if (a.length < POINTS_LEAST || distinct(a, 2) < 2) return null
  const other = a.filter((v, i) => v !== b[i]).length
  return other / a.length >= AGREE ? { kind: 'inverted' } : null
}
