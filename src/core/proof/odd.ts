import type { Verdict } from '~/contract/live'
import { lostVerdicts, type OddSet } from '../delivery/verdict'

/** Numbers from the first to the last, both counted. */
export type Run = readonly [first: number, last: number]

/** What is in both; each in order and without overlaps. */
export function common(a: readonly Run[], b: readonly Run[]): Run[] {
  const out: Run[] = []
  for (let i = 0, j = 0; i < a.length && j < b.length; ) {
    const first = Math.max(a[i]![0], b[j]![0])
    const last = Math.min(a[i]![1], b[j]![1])
    if (first <= last) out.push([first, last])
    if (a[i]![1] < b[j]![1]) i++
    else j++
  }
  return out
}

/** What is in the first and not in the second; each in order and without overlaps. */
export function without(a: readonly Run[], b: readonly Run[]): Run[] {
  const out: Run[] = []
  let j = 0
  for (const [first, last] of a) {
    let from = first
    while (j < b.length && b[j]![1] < from) j++
    for (let k = j; k < b.length && b[k]![0] <= last; k++) {
      if (b[k]![0] > from) out.push([from, b[k]![0] - 1])
      from = b[k]![1] + 1
    }
    if (from <= last) out.push([from, last])
  }
  return out
}

/** Those that arrived in an odd way, the worst first: a message counts as the worst that holds. */
const arrivedOdd = ['altered', 'doubled', 'disordered', 'late'] as const
/** Verdicts that are not as they should be, the worst first. */
export const oddVerdicts = ['missing', ...lostVerdicts.filter((v) => v !== 'missing'), ...arrivedOdd] as const satisfies Verdict[]
export type OddVerdict = (typeof oddVerdicts)[number]

/** Messages by their one verdict, out of what is written of them, as far as they lie within. */
export function oddRuns(sets: Readonly<Record<OddSet, readonly Run[]>>, within: readonly Run[]): Map<OddVerdict, Run[]> {
  const out = new Map<OddVerdict, Run[]>()
  for (const v of lostVerdicts) out.set(v, common(sets[v], within))
  let taken: Run[] = []
  for (const v of arrivedOdd) {
    const own = without(common(sets[v], within), taken)
    out.set(v, own)
    taken = [...taken, ...own].sort((a, b) => a[0] - b[0])
  }
  return out
}

export const countOf = (runs: readonly Run[]): number => runs.reduce((n, [first, last]) => n + last - first + 1, 0)
