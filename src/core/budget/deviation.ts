/** A curve that holds each value until the next; times in epoch ms, in their order. */
export type Curve = readonly (readonly [at: number, value: number])[]

/** How far a curve that somebody rebuilt is from what it was, in its own unit. */
export interface Deviation {
  /** The largest distance at any moment. */
  most: number
  /** Root of the mean square of the distance over the time. */
  rms: number
}

/**
 * Compares two curves from one moment to another, both held between their points. Before its first point the rebuilt one is taken to
 * be right: whoever rebuilds it knows what was told before. Null: there is no time to compare in.
 */
export function deviationOf(truth: Curve, rebuilt: Curve, from: number, to: number): Deviation | null {
  if (truth.length === 0 || to <= from) return null
  let most = 0
  let squares = 0
  let length = 0
  let i = 0
  let j = 0
  let is: number | null = null
  let told: number | null = null
  let at = from
  const pass = (until: number) => {
    if (is !== null && until > at) {
      const distance = Math.abs((told ?? is) - is)
      most = Math.max(most, distance)
      squares += distance * distance * (until - at)
      length += until - at
    }
    at = Math.max(at, until)
  }
  while (i < truth.length || j < rebuilt.length) {
    const a = truth[i]?.[0] ?? Number.POSITIVE_INFINITY
    const b = rebuilt[j]?.[0] ?? Number.POSITIVE_INFINITY
    const next = Math.min(a, b)
    if (next >= to) break
    if (next > from) pass(next)
    // What changes at once is told at once.
    if (a === next) is = truth[i++]![1]
    if (b === next) told = rebuilt[j++]![1]
  }
  pass(to)
  return length === 0 ? null : { most, rms: Math.sqrt(squares / length) }
}

/** From the least to the largest value of a curve. */
export function spanOf(curve: Curve): number {
  let least = Number.POSITIVE_INFINITY
  let largest = Number.NEGATIVE_INFINITY
  for (const [, value] of curve) {
    least = Math.min(least, value)
    largest = Math.max(largest, value)
  }
  return largest - least
}

/** One member's curve, as it was and as it was rebuilt. */
export interface Compared extends Deviation {
  name: string
  unit: string
  /** From the least to the largest value that it had. */
  span: number
}

/** All members together: distances as shares of what each of them moved; null: none of them moved. */
export function together(all: readonly Compared[]): Deviation | null {
  const moved = all.filter((c) => c.span > 0)
  if (moved.length === 0) return null
  const squares = moved.reduce((sum, c) => sum + (c.rms / c.span) ** 2, 0)
  return { most: Math.max(...moved.map((c) => c.most / c.span)), rms: Math.sqrt(squares / moved.length) }
}
