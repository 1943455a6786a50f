import { deviationOf, spanOf } from '../budget/deviation'
import { conversion } from '../value/convert'
import { agreement, gridOf, type Points, pointsOf, same, toleranceOf } from './points'
import { POINTS_LEAST, type Relation, relationOf, saidWrongly, saysSomething } from './relation'
import { along, boundsOf, indexAt, type Line, median, some, type Track } from './track'

/** A value, and where it arrives. */
export interface Beside {
  /** What it was. */
  held: Track
  /** What arrived. */
  came: Track
  /** When what arrived says that it was, where it says so otherwise than `came` does: differences, ms. */
  saidLaterMs: number[]
  /** How what arrives is made of what was held, as far as that is stated. */
  stated: Line
  units: { held: string; said: string }
  /** How what was held comes of registers; null: it does not. */
  raw: Line | null
  logical: boolean
  named: boolean
  /** How far it must move to be told, in the unit of what arrives; 0: not at all, or it is not stated. */
  width: number
  /** What was held so shortly before or after may be what was told, ms. */
  slackMs: number
  /** It comes by another way than ours: how long that takes is found out, up to so long, ms; 0: it is not. */
  behindMs: number
  /** Compared is from then to then, epoch ms. */
  from: number
  to: number
}

/** What is between a value and what arrived of it. */
export type Finding =
  | Relation
  | { kind: 'exchanged'; with: number }
  | { kind: 'other'; carries: number }
  | { kind: 'deadband'; size: number; hides: number }
  | { kind: 'seldom'; everyMs: number; hides: number }
  | { kind: 'still'; since: number }
  | { kind: 'nothing' }

/** `little`: too little moved to say anything. */
export type State = 'agrees' | 'differs' | 'nothing' | 'little'

export interface Comparison {
  state: State
  finding: Finding | null
  /** Values that were held one after the other, in the time. */
  held: number
  /** How many of them arrived. */
  carried: number
  /** Values that arrived, and how many of them are none that was held then. */
  came: number
  off: number
  /** What arrives follows so long after, where that had to be found out; ms. */
  behindMs: number | null
  /** From the least to the largest value that was held; 0 where there are no numbers. */
  span: number
  /** How far what a receiver can rebuild is from what was held, in the unit of what arrives; null: there are no numbers. */
  most: number | null
  rms: number | null
  /** What of it is explained, each at the most. */
  decimals: number
  between: number
  unexplained: number
}

/** So many must agree that all is well. */
const WELL = 0.98
/** What does not even agree so far is looked at. */
const RELATED = 0.9
const RELATED_POINTS = 400
/** Said otherwise than made by more than this: by a time zone, ms. */
const QUARTER_MS = 900_000
const EVEN_MS = 15_000
const NEAR_MS = 300_000
/**
 * What is not told is too much from here on: by shares of all movement, for so much of the time; and by how much it moves from one value to the
 * next, so that noise does not count.
 */
const HIDES_MOST = 0.1
const HIDES_MUCH = 0.05
const HIDES_TIME = 0.2
const HIDES_STEPS = 3
const MOVES_LEAST = 20
/** Looked at so many moments. */
const MOMENTS = 400
/** It stands still: so many of its usual waits have passed, at least so long (ms), and so often it moved since. */
const STILL_WAITS = 5
const STILL_MS = 30_000
const STILL_MOVES = 10

const empty = { behindMs: null, span: 0, most: null, rms: null, decimals: 0, between: 0, unexplained: 0 }

/** The part of a track that lies in a time: what was held when it began, too. */
function within(track: Track, from: number, to: number): Track {
  const first = Math.max(0, indexAt(track, from))
  const end = indexAt(track, to) + 1
  return { at: track.at.slice(first, end), value: track.value.slice(first, end) }
}

/** Without what repeats the value before. */
function changesOf({ at, value }: Track): Track {
  const out: Track = { at: [], value: [] }
  for (const [i, v] of value.entries()) {
    if (Number.isNaN(v) || v === out.value.at(-1)) continue
    out.at.push(at[i]!)
    out.value.push(v)
  }
  return out
}

/** How many of what was held came while it was. */
function carriedOf(held: Track, came: Track): number {
  const carried = new Set(came.at.map((at) => indexAt(held, at)))
  carried.delete(-1)
  return carried.size
}

/** How long after it was held each value came, where it can be told; null: that does not follow. */
function behindOf(held: Track, came: Track, most: number): { ms: number; spread: number } | null {
  const tolerance = toleranceOf(held.value, came.value)
  const waits: number[] = []
  const moves = changesOf(came)
  const own = changesOf(held)
  for (const [n, at] of moves.at.entries()) {
    for (let i = indexAt(own, at); i >= 0 && own.at[i]! >= at - most; i--) {
      if (!same(own.value[i]!, moves.value[n]!, tolerance)) continue
      // What is rounded is the same for a while: any of that may have been told.
      let first = i
      while (first > 0 && own.at[first - 1]! >= at - most && same(own.value[first - 1]!, moves.value[n]!, tolerance)) first--
      waits.push(at - (own.at[i]! + own.at[first]!) / 2)
      break
    }
  }
  if (waits.length < POINTS_LEAST || waits.length < moves.at.length * 0.6) return null
  const ms = median(waits)
  return { ms, spread: 3 * median(waits.map((w) => Math.abs(w - ms))) + 1 }
}

/** Holds a value beside what arrived of it. */
export function compare(asked: Beside): Comparison {
  const o = { ...asked, stated: statedBy(asked) }
  const held = along(o.held, o.stated)
  let { came } = o
  let { slackMs } = o
  const moved = changesOf(within(held, o.from, o.to))
  const base = { held: moved.at.length, came: came.at.length, carried: 0, off: 0, ...empty }
  if (came.at.length === 0) {
    const silent = moved.at.length > 1
    return { ...base, state: silent ? 'nothing' : 'little', finding: silent ? { kind: 'nothing' } : null }
  }
  let points = pointsOf(held, came, { until: o.to, slackMs })
  let behindMs: number | null = null
  if (o.behindMs > 0 && agreement(points, toleranceOf(points.a, points.b)) < WELL) {
    const behind = behindOf(held, came, o.behindMs)
    if (behind) {
      const earlier = { at: came.at.map((at) => at - behind.ms), value: came.value }
      const spread = Math.max(slackMs, behind.spread)
      const then = pointsOf(held, earlier, { until: o.to, slackMs: spread })
      // Values that only happen to be the same at some time are no delay.
      if (agreement(then, toleranceOf(then.a, then.b)) >= WELL) {
        behindMs = Math.round(behind.ms)
        slackMs = spread
        came = earlier
        points = then
      }
    }
  }
  const aligned = { ...o, held, came }
  const figures = figuresOf(aligned, points)
  const carried = carriedOf(moved, came)
  return { ...base, ...figures, behindMs, carried, ...judged(aligned, moved, points, figures) }
}

/** How one becomes the other: what is computed into the unit that is said is as good as stated. */
function statedBy(o: Beside): Line {
  const { held, said } = o.units
  const line = asRead(o) && !o.named && !o.logical && held !== '' && said !== '' ? conversion(held, said) : null
  if (!line) return o.stated
  const points = pointsOf(along(o.held, line), o.came, { until: o.to, slackMs: o.slackMs })
  return agreement(points, toleranceOf(points.a, points.b)) >= WELL ? line : o.stated
}

/** Distances, and what explains them. */
function figuresOf(o: Beside, points: Points) {
  const tolerance = toleranceOf(points.a, points.b)
  const apart = points.a.map((a, i) => Math.abs(a - points.b[i]!))
  const agrees = points.a.map((a, i) => same(a, points.b[i]!, tolerance))
  const off = agrees.filter((yes) => !yes).length
  if (o.logical || o.named) return { off, span: 0, most: null, rms: null, decimals: 0, between: 0, unexplained: 0 }
  const largest = (of: boolean) => apart.reduce((most, d, i) => (agrees[i] === of && d > most ? d : most), 0)
  const curve = (t: Track) => t.at.flatMap((at, i) => (Number.isNaN(t.value[i]!) ? [] : [[at, t.value[i]!] as const]))
  const truth = curve(within(o.held, o.from, o.to))
  const d = deviationOf(truth, curve(o.came), o.from, o.to)
  const decimals = tolerance.near > gridOf(points.b) * 0.5 ? largest(true) : 0
  const unexplained = largest(false)
  const span = truth.length === 0 ? 0 : spanOf(truth)
  const between = Math.max(0, (d?.most ?? 0) - Math.max(decimals, unexplained))
  return { off, span, most: d?.most ?? null, rms: d?.rms ?? null, decimals, between, unexplained }
}

type Figures = ReturnType<typeof figuresOf>

/** What is stated leaves it as it is. */
const asRead = ({ stated }: Beside) => stated.factor === 1 && stated.offset === 0

/** By how many quarters of an hour times are said otherwise than they were, all alike; null: they are not. */
function shiftSaid(saidLaterMs: readonly number[]): number | null {
  const shifted = median(saidLaterMs)
  if (saidLaterMs.length < POINTS_LEAST || Math.abs(shifted) < 2 * QUARTER_MS - EVEN_MS) return null
  const ms = Math.round(shifted / QUARTER_MS) * QUARTER_MS
  // What is old, and not wrong, grows older.
  const alike = median(saidLaterMs.map((s) => Math.abs(s - shifted))) < EVEN_MS
  return alike && Math.abs(shifted - ms) < NEAR_MS ? ms : null
}

function judged(o: Beside, moved: Track, points: Points, figures: Figures): Pick<Comparison, 'state' | 'finding'> {
  const said = shiftSaid(o.saidLaterMs)
  if (said !== null) return { state: 'differs', finding: { kind: 'shift', ms: said } }
  const agree = points.a.length === 0 ? 0 : 1 - figures.off / points.a.length
  const still = stillIn(o, moved)
  if (agree >= WELL) {
    if (still) return { state: 'differs', finding: still }
    const wrongly = asRead(o) && !o.logical && !o.named ? saidWrongly(o.units.held, o.units.said) : null
    if (wrongly && points.a.some((a) => a !== 0)) return { state: 'differs', finding: wrongly }
    return { state: 'agrees', finding: o.logical || o.named ? null : hiddenIn(o, moved, figures.span) }
  }
  // What is converted as is stated has the unit that is said.
  const units = asRead(o) ? o.units : { held: o.units.said, said: o.units.said }
  // The nearest value around a time is not what it was made of; a part of the points tells as much as all.
  const exactly = pointsOf(o.held, some(o.came, RELATED_POINTS), { until: o.to })
  const relation = (agree < RELATED ? relationOf(exactly, { ...o, units, until: o.to }) : null) ?? still
  if (relation) return { state: 'differs', finding: relation }
  return { state: points.a.length < POINTS_LEAST || (!saysSomething(points) && !o.logical) ? 'little' : 'differs', finding: null }
}

/** What is not told because it moved too little, or because it is told too seldom, though it is no noise. */
function hiddenIn(o: Beside, moved: Track, span: number): Finding | null {
  const { came } = o
  if (moved.at.length < MOVES_LEAST || span === 0) return null
  const steps = moved.value.slice(1).map((v, i) => Math.abs(v - moved.value[i]!))
  const apart = apartAt(moved, came, o.from, o.to).sort((a, b) => a - b)
  const most = apart[Math.floor(apart.length * 0.95)] ?? 0
  const much = apart.filter((d) => d > HIDES_MUCH * span).length / apart.length
  if (most < HIDES_MOST * span || much < HIDES_TIME || most < HIDES_STEPS * median(steps)) return null
  const waits = came.at.slice(1).map((at, i) => at - came.at[i]!)
  const every = median(waits)
  const even = waits.length >= 3 && waits.every((w) => Math.abs(w - every) <= every * 0.1)
  const hides = most / span
  // More than a deadband hides is hidden by the pace.
  if (o.width > 0 ? most > 2 * o.width && waits.length > 0 : even) return { kind: 'seldom', everyMs: every, hides }
  const jumps = came.value.slice(1).map((v, i) => Math.abs(v - came.value[i]!))
  const least = Math.min(...jumps.filter((j) => j > 0))
  return { kind: 'deadband', size: o.width || (Number.isFinite(least) ? least : most), hides }
}

/** How far what was told is from what was held, at moments evenly over the time. */
function apartAt(held: Track, came: Track, from: number, to: number): number[] {
  const out: number[] = []
  for (let n = 0; n < MOMENTS; n++) {
    const at = from + ((to - from) * (n + 0.5)) / MOMENTS
    const a = held.value[indexAt(held, at)]
    const b = came.value[indexAt(came, at)]
    if (a !== undefined && b !== undefined && !Number.isNaN(a) && !Number.isNaN(b)) out.push(Math.abs(a - b))
  }
  return out
}

/** Nothing has come for long, though it went on moving. */
function stillIn(o: Beside, moved: Track): Finding | null {
  const { came } = o
  const since = came.at.at(-1)!
  const wait = median(came.at.slice(1).map((at, i) => at - came.at[i]!))
  if (o.to - since < Math.max(STILL_MS, STILL_WAITS * wait) || Number.isNaN(wait)) return null
  const last = came.value.at(-1)!
  const bounds = boundsOf(moved.value)
  const far = o.logical || o.named || !bounds ? 0 : Math.max(2 * o.width, 0.05 * (bounds.high - bounds.low))
  const movedOn = moved.value.filter((v, i) => moved.at[i]! > since && Math.abs(v - last) > far).length
  return movedOn >= STILL_MOVES ? { kind: 'still', since } : null
}
