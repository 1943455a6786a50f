import type { Scalar } from '../value/deadband'

/** What a value was, each held until the next; times in epoch ms, in their order; NaN: there was no good value. */
export interface Track {
  at: number[]
  value: number[]
}

/** Goes along a line: `value * factor + offset`. */
export interface Line {
  factor: number
  offset: number
}

/** Index of the last point at or before a time; -1: there is none. */
export function indexAt({ at }: Track, time: number): number {
  let low = 0
  let high = at.length
  while (low < high) {
    const middle = (low + high) >>> 1
    if (at[middle]! <= time) low = middle + 1
    else high = middle
  }
  return low - 1
}

/** A track along a line. */
export const along = ({ at, value }: Track, { factor, offset }: Line): Track =>
  factor === 1 && offset === 0 ? { at, value } : { at, value: value.map((v) => v * factor + offset) }

/** The same in the order of its times; of two at one time the later one counts. */
export function inOrder({ at, value }: Track): Track {
  const order = at.map((_, i) => i).sort((a, b) => at[a]! - at[b]! || a - b)
  const out: Track = { at: [], value: [] }
  for (const i of order) {
    if (out.at.at(-1) === at[i]) out.value[out.value.length - 1] = value[i]!
    else {
      out.at.push(at[i]!)
      out.value.push(value[i]!)
    }
  }
  return out
}

/** Names get a number each, so that they can be compared like numbers: equal or not. */
export class Names {
  private readonly numbers = new Map<string, number>()

  of(value: Scalar): number {
    if (value === null) return Number.NaN
    const text = String(value)
    const known = this.numbers.get(text)
    if (known !== undefined) return known
    this.numbers.set(text, this.numbers.size)
    return this.numbers.size - 1
  }
}

/** A value as a number; NaN: it is none. */
export function numberOf(value: Scalar): number {
  if (typeof value === 'bigint') return Number(value)
  if (typeof value === 'boolean') return value ? 1 : 0
  return typeof value === 'number' && Number.isFinite(value) ? value : Number.NaN
}

/** The middle one of some numbers; NaN of none. */
export function median(values: readonly number[]): number {
  const sorted = values.toSorted((a, b) => a - b)
  const middle = sorted.length >> 1
  if (sorted.length === 0) return Number.NaN
  return sorted.length % 2 === 1 ? sorted[middle]! : (sorted[middle - 1]! + sorted[middle]!) / 2
}

/** How many different values there are, counted up to `most`. */
export function distinct(values: readonly number[], most: number): number {
  const seen = new Set<number>()
  for (const v of values) {
    if (!Number.isNaN(v)) seen.add(v)
    if (seen.size >= most) break
  }
  return seen.size
}

/** The least and the largest of the values that there are; null: there are none. */
export function boundsOf(values: readonly number[]): { low: number; high: number } | null {
  let low = Number.POSITIVE_INFINITY
  let high = Number.NEGATIVE_INFINITY
  for (const v of values) {
    if (v < low) low = v
    if (v > high) high = v
  }
  return low <= high ? { low, high } : null
}

/** So many points at the most, evenly over all of it. */
export function some({ at, value }: Track, most: number): Track {
  if (at.length <= most) return { at, value }
  const picks = Array.from({ length: most }, (_, n) => Math.floor((n * at.length) / most))
  return { at: picks.map((i) => at[i]!), value: picks.map((i) => value[i]!) }
}

/** A curve of few points that looks like it: of each stretch of time its first, least, largest and last point. */
export function thinned(track: Track, from: number, to: number, stretches: number): [at: number, value: number | null][] {
  const out: [number, number | null][] = []
  const width = Math.max(1, (to - from) / stretches)
  const point = (i: number): [number, number | null] => [track.at[i]!, Number.isNaN(track.value[i]!) ? null : track.value[i]!]
  let i = Math.max(0, indexAt(track, from))
  while (i < track.at.length && track.at[i]! <= to) {
    const end = from + (Math.floor((Math.max(track.at[i]!, from) - from) / width) + 1) * width
    const own = [i]
    let least = i
    let largest = i
    let last = i
    for (; i < track.at.length && track.at[i]! < end && track.at[i]! <= to; i++) {
      if (track.value[i]! < track.value[least]!) least = i
      if (track.value[i]! > track.value[largest]!) largest = i
      last = i
    }
    own.push(least, largest, last)
    for (const n of [...new Set(own)].sort((a, b) => a - b)) out.push(point(n))
  }
  return out
}
