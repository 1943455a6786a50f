import { indexAt, type Track } from './track'

/** How far two values may be apart and still be the same one. */
export interface Tolerance {
  /** In their unit. */
  near: number
  /** Of the value. */
  share: number
}

/** What single precision leaves of a value, and a little. */
const SINGLE = 2 ** -22

/** Points that came, each with what was held then. */
export interface Points {
  /** Held. */
  a: number[]
  /** Came. */
  b: number[]
  /** When it came. */
  at: number[]
}

/** The most decimals that are looked at. */
const DECIMALS = 9

/** The step in which numbers are written: 0.1 where all of them have one decimal at the most; 0: there is none. */
export function gridOf(values: readonly number[]): number {
  let decimals = 0
  for (const v of values) {
    if (Number.isNaN(v)) continue
    while (decimals <= DECIMALS) {
      const scaled = v * 10 ** decimals
      if (Math.abs(scaled - Math.round(scaled)) <= Math.max(1e-9, Math.abs(scaled) * 4e-16 * 8)) break
      decimals++
    }
    if (decimals > DECIMALS) return 0
  }
  return 10 ** -decimals
}

/** How far apart may be what is the same: what is written in coarser steps than it was held in may be cut; whole numbers are the same or not. */
export function toleranceOf(held: readonly number[], came: readonly number[]): Tolerance {
  const grid = gridOf(came)
  const finer = gridOf(held)
  const coarser = grid > 0 && (finer === 0 || finer < grid)
  return { near: coarser ? grid * (1 + 1e-6) : grid * 1e-3, share: grid === 1 && finer === 1 ? 0 : SINGLE }
}

export const same = (a: number, b: number, { near, share }: Tolerance): boolean => Math.abs(a - b) <= near + share * Math.abs(a)

/**
 * Holds what came against what was held at that time, `shiftMs` earlier: known from its first point up to `until`. What was held within `slackMs`
 * of it may be what came too: the nearest is taken.
 */
export function pointsOf(held: Track, came: Track, o: { until: number; shiftMs?: number; slackMs?: number }): Points {
  const out: Points = { a: [], b: [], at: [] }
  const { until, shiftMs = 0, slackMs = 0 } = o
  for (const [n, at] of came.at.entries()) {
    const b = came.value[n]!
    const time = at - shiftMs
    if (Number.isNaN(b) || time > until) continue
    const a = nearest(held, b, time, slackMs)
    if (Number.isNaN(a)) continue
    out.a.push(a)
    out.b.push(b)
    out.at.push(at)
  }
  return out
}

/** Of what was held around a time, what is nearest to a value; NaN: nothing was. */
function nearest(held: Track, value: number, time: number, slackMs: number): number {
  const first = indexAt(held, time)
  let best = first >= 0 ? held.value[first]! : Number.NaN
  if (slackMs === 0 || best === value) return best
  for (let i = Math.max(0, indexAt(held, time - slackMs)); i < held.at.length && held.at[i]! <= time + slackMs; i++) {
    const a = held.value[i]!
    if (Number.isNaN(best) || Math.abs(a - value) < Math.abs(best - value)) best = a
  }
  return best
}

/** The share of points that are the same; 0 of none. */
export function agreement({ a, b }: Points, tolerance: Tolerance, through: (a: number) => number = (x) => x): number {
  if (a.length === 0) return 0
  let agree = 0
  for (let i = 0; i < a.length; i++) if (same(through(a[i]!), b[i]!, tolerance)) agree++
  return agree / a.length
}
