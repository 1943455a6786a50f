import type { ProofCounts, ProofLatency } from '~/contract/prove'
import { Histogram } from '../delivery/histogram'

/** Durations of one kind: quantiles within 5 %, the longest exactly. */
export class Durations {
  private readonly histogram = new Histogram()
  private longest = 0

  add(ms: number): void {
    this.histogram.add(ms)
    if (ms > this.longest) this.longest = ms
  }

  get count(): number {
    return this.histogram.count
  }

  /** Null: there were none. */
  get summary(): ProofLatency | null {
    const q = (share: number) => this.histogram.quantile(share)
    const [p50, p95, p99] = [q(0.5), q(0.95), q(0.99)]
    if (p50 === null || p95 === null || p99 === null) return null
    // A bucket reaches further than what lies in it.
    const most = (ms: number) => tenths(Math.min(ms, this.longest))
    return { p50: most(p50), p95: most(p95), p99: most(p99), max: tenths(this.longest), count: this.count }
  }
}

const tenths = (ms: number): number => Math.round(ms * 10) / 10

type Point = { atS: number; p50: number; p99: number; max: number; count: number }

/** A curve in pieces: where nothing had its last word for a while there is no line. */
export function piecesOf<P extends Pick<Point, 'atS'>>(curve: readonly P[]): P[][] {
  let step = Number.POSITIVE_INFINITY
  for (let i = 1; i < curve.length; i++) step = Math.min(step, curve[i]!.atS - curve[i - 1]!.atS)
  const pieces: P[][] = []
  for (const [i, p] of curve.entries()) {
    // A point or two may be missing where messages are few.
    if (i > 0 && p.atS - curve[i - 1]!.atS <= 3 * step) pieces.at(-1)!.push(p)
    else pieces.push([p])
  }
  return pieces
}

/** At most so many points a curve has. */
const POINTS = 240

/** How long messages took over the time of a run: a point each so many seconds, by when they had their last word. */
export class Curve {
  private readonly points = new Map<number, Durations>()
  private readonly everyS: number

  constructor(seconds: number) {
    this.everyS = Math.max(1, Math.ceil(seconds / POINTS))
  }

  add(atS: number, ms: number): void {
    const at = Math.floor(atS / this.everyS) * this.everyS
    let point = this.points.get(at)
    if (!point) this.points.set(at, (point = new Durations()))
    point.add(ms)
  }

  get all(): Point[] {
    return [...this.points]
      .sort(([a], [b]) => a - b)
      .flatMap(([atS, d]) => {
        const s = d.summary
        return s ? [{ atS, p50: s.p50, p99: s.p99, max: s.max, count: s.count }] : []
      })
  }
}

export const noCounts = (): ProofCounts => ({
  ...{ produced: 0, confirmed: 0, late: 0, disordered: 0, doubled: 0, altered: 0, missing: 0, dropped: 0, rejected: 0, unknown: 0, waiting: 0 },
})

export function sumOf(all: readonly ProofCounts[]): ProofCounts {
  const sum = noCounts()
  for (const counts of all) for (const key of Object.keys(sum) as (keyof ProofCounts)[]) sum[key] += counts[key]
  return sum
}
