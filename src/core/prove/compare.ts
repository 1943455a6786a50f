import type { ProofReport } from '~/contract/prove'

export interface RunDifference {
  what: string
  before: string
  after: string
  /** Whether the later run is better; null: it is only another. */
  better: boolean | null
}

const ms = (n: number | undefined): string => (n === undefined ? '-' : `${n} ms`)

/** In what a run differs from an earlier one: outcome, counts, latency, recovery, and what was tested. */
export function runDifferences(before: ProofReport, after: ProofReport): RunDifference[] {
  const out: RunDifference[] = []
  const add = (what: string, a: string, b: string, better: boolean | null) => {
    if (a !== b) out.push({ what, before: a, after: b, better })
  }
  const rank = { held: 0, unproven: 1, stopped: 2, failed: 3, broken: 4 }
  add('Outcome', before.outcome, after.outcome, rank[after.outcome] < rank[before.outcome])
  add('Produced', String(before.counts.produced), String(after.counts.produced), null)
  for (const key of ['missing', 'doubled', 'altered', 'disordered', 'late', 'dropped', 'rejected', 'unknown', 'waiting'] as const)
    add(key[0]!.toUpperCase() + key.slice(1), String(before.counts[key]), String(after.counts[key]), after.counts[key] < before.counts[key])
  for (const q of ['p50', 'p99', 'max'] as const) {
    const [a, b] = [before.latency?.[q], after.latency?.[q]]
    add(`Latency ${q}`, ms(a), ms(b), a === undefined || b === undefined ? null : b < a)
  }
  const worst = (r: ProofReport): number | undefined => {
    const begun = r.faults.filter((f) => f.begun)
    return begun.length === 0 ? undefined : Math.max(...begun.map((f) => f.recoveredS ?? Number.POSITIVE_INFINITY))
  }
  const [a, b] = [worst(before), worst(after)]
  const recovered = (s: number | undefined) => (s === undefined ? 'no fault' : Number.isFinite(s) ? `${s} s` : 'never')
  add('Longest recovery', recovered(a), recovered(b), a === undefined || b === undefined ? null : b < a)
  const plans = new Map(before.deliveries.map((d) => [`${d.publication} to ${d.destination}`, d]))
  for (const d of after.deliveries) {
    const was = plans.get(`${d.publication} to ${d.destination}`)
    plans.delete(`${d.publication} to ${d.destination}`)
    if (!was) add(`${d.publication} to ${d.destination}`, 'not in it', `version ${d.version}`, null)
    else if (was.planSha256 !== d.planSha256) add(`${d.publication} to ${d.destination}`, `version ${was.version}`, `version ${d.version}`, null)
  }
  for (const [name, d] of plans) add(name, `version ${d.version}`, 'not in it', null)
  add('Embrik', before.environment.embrik, after.environment.embrik, null)
  return out
}
