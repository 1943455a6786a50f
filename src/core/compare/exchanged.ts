import type { Beside, Comparison } from './compare'
import { agreement, type Points, pointsOf, same, toleranceOf } from './points'
import { saysSomething } from './relation'
import { boundsOf, some } from './track'

/** So many points of each are held against the values of another; and so many of these first. */
const POINTS = 64
const FIRST = 6
const AGREE = 0.95

/** The first few of them agree as they should: most others need no further look. */
function begins({ a, b }: Points): boolean {
  const tolerance = toleranceOf(a, b)
  const [x, y] = [a.slice(0, FIRST), b.slice(0, FIRST)]
  return x.filter((v, i) => !same(v, y[i]!, tolerance)).length <= 1
}

/**
 * Among pairs that do not agree and in which nothing was recognised: what arrives of one is what another one held. Where it is so both ways
 * the two are exchanged.
 */
export function findExchanged(all: readonly { beside: Beside; comparison: Comparison }[]): void {
  const odd = all.flatMap(({ comparison: c, beside }, n) => {
    if (c.state !== 'differs' || (c.finding !== null && c.finding.kind !== 'line') || beside.logical) return []
    const came = some(beside.came, POINTS)
    const bounds = boundsOf(came.value)
    return bounds ? [{ n, came, bounds }] : []
  })
  const held = all.map(({ beside }) => boundsOf(beside.held.value))
  const carries = new Map<number, number[]>()
  for (const { n, came, bounds } of odd) {
    const own = all[n]!.beside
    const { factor, offset } = own.stated
    const matches = all.flatMap(({ beside: other }, m) => {
      const there = held[m]
      if (m === n || !there || other.named !== own.named || other.logical || other.held === own.held) return []
      const ends = [there.low * factor + offset, there.high * factor + offset]
      if (bounds.high < Math.min(...ends) || bounds.low > Math.max(...ends)) return []
      const raw = pointsOf(other.held, came, { until: own.to })
      const points = { ...raw, a: raw.a.map((v) => v * factor + offset) }
      return begins(points) && saysSomething(points) && agreement(points, toleranceOf(points.a, points.b)) >= AGREE ? [m] : []
    })
    if (matches.length > 0) carries.set(n, matches)
  }
  for (const [n, matches] of carries) {
    const back = matches.find((m) => carries.get(m)?.includes(n))
    all[n]!.comparison.finding = back === undefined ? { kind: 'other', carries: matches[0]! } : { kind: 'exchanged', with: back }
  }
}
