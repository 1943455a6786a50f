import type { Beside, Comparison } from './compare'
import { agreement, pointsOf, toleranceOf } from './points'
import { saysSomething } from './relation'
import { along, boundsOf, type Track } from './track'

/** So many points of each are held against the values of another. */
const POINTS = 64
const AGREE = 0.95

/** A few points, over all of it. */
function some({ at, value }: Track): Track {
  const every = Math.max(1, at.length / POINTS)
  const picks = Array.from({ length: Math.min(POINTS, at.length) }, (_, n) => Math.floor(n * every))
  return { at: picks.map((i) => at[i]!), value: picks.map((i) => value[i]!) }
}

/**
 * Among pairs that do not agree and in which nothing was recognised: what arrives of one is what another one held. Where it is so both ways
 * the two are exchanged.
 */
export function findExchanged(all: readonly { beside: Beside; comparison: Comparison }[]): void {
  const odd = all.flatMap(({ comparison: c, beside }, n) => {
    if (c.state !== 'differs' || (c.finding !== null && c.finding.kind !== 'line') || beside.logical) return []
    const came = some(beside.came)
    return [{ n, came, bounds: boundsOf(came.value) }]
  })
  const carries = new Map<number, number[]>()
  for (const { n, came, bounds } of odd) {
    const own = all[n]!.beside
    const matches = all.flatMap(({ beside: other }, m) => {
      if (m === n || other.named !== own.named || other.logical || other.held === own.held) return []
      const held = along(other.held, own.stated)
      const there = boundsOf(held.value)
      if (!bounds || !there || bounds.high < there.low || bounds.low > there.high) return []
      const points = pointsOf(held, came, { until: own.to, slackMs: own.slackMs })
      return saysSomething(points) && agreement(points, toleranceOf(points.a, points.b)) >= AGREE ? [m] : []
    })
    if (matches.length > 0) carries.set(n, matches)
  }
  for (const [n, matches] of carries) {
    const back = matches.find((m) => carries.get(m)?.includes(n))
    all[n]!.comparison.finding = back === undefined ? { kind: 'other', carries: matches[0]! } : { kind: 'exchanged', with: back }
  }
}
