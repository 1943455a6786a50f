import type { Verdict } from '~/contract/live'
import { verdicts } from '../delivery/verdict'

/** What became of the messages made in one slice of time; `start` in epoch ms. */
export interface SliceFate extends Record<Verdict, number> {
  start: number
  produced: number
}

/** What became of the messages of a while. */
export interface RecentFact extends Record<Verdict, number> {
  /** From when on, epoch ms. */
  since: number
  produced: number
  /** Of those that are missing or altered when the first was made, epoch ms; null: there are none. */
  wrongSince: number | null
  /** When the last of those was made that arrived as they should, epoch ms; null: none did. */
  arrivedAt: number | null
  /** When the first of those was made that have no verdict yet, epoch ms; null: all have. */
  waitingSince: number | null
  /** Something went wrong, or nobody could say, and for some slices now all arrived: it is over. */
  over: boolean
}

/** So many slices in a row in which all arrived say that what went wrong is over. */
const OVER_SLICES = 3

const arrivedOf = (s: SliceFate) => s.confirmed + s.late + s.disordered + s.doubled
const wrongOf = (s: SliceFate) => s.missing + s.altered + s.dropped + s.rejected + s.unknown

/** Sums slices, the oldest first. */
export function recentOf(slices: readonly SliceFate[], since: number): RecentFact {
  const sums = Object.fromEntries(verdicts.map((v) => [v, slices.reduce((n, s) => n + s[v], 0)])) as Record<Verdict, number>
  const lost = slices.find((s) => s.missing + s.altered > 0)
  let good = 0
  for (const s of [...slices].reverse()) {
    if (wrongOf(s) > 0) break
    if (s.produced > 0 && arrivedOf(s) === s.produced) good++
  }
  return {
    ...sums,
    since,
    produced: slices.reduce((n, s) => n + s.produced, 0),
    wrongSince: lost?.start ?? null,
    arrivedAt: [...slices].reverse().find((s) => arrivedOf(s) > 0)?.start ?? null,
    waitingSince: slices.find((s) => verdicts.reduce((n, v) => n + s[v], 0) < s.produced)?.start ?? null,
    over: slices.some((s) => wrongOf(s) > 0) && good >= OVER_SLICES,
  }
}
