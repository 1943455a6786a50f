import type { LimitResult, ProofCounts, ProofLatency, ProofLimits, ProofOutcome } from '~/contract/prove'

/** What was measured in a run. */
export interface Measured {
  counts: ProofCounts
  latency: ProofLatency | null
  /** Publications without a witness: of their messages nobody says what arrived. */
  unwitnessed: readonly string[]
  /** How many of the unknown messages are of those. */
  unseen: number
  /** For each fault, s after it ended; null: it did not come back within the run. */
  recoveries: readonly { words: string; begun: boolean; recoveredS: number | null }[]
}

const words: Record<keyof ProofLimits, string> = {
  missing: 'missing messages',
  doubled: 'doubled messages',
  altered: 'altered messages',
  disordered: 'messages out of order',
  late: 'late messages',
  dropped: 'dropped messages',
  rejected: 'rejected messages',
  unknown: 'messages whose fate nobody knows',
  p99Ms: 'ms within which 99 of 100 arrive',
  recoveredS: 's until all was well again after a fault',
}
export const limitWords: Readonly<Record<keyof ProofLimits, string>> = words

/** What only a witness can say. */
const seen: ReadonlySet<keyof ProofLimits> = new Set<keyof ProofLimits>(['missing', 'doubled', 'altered', 'disordered', 'late', 'unknown'])

/** `80 ms`, `17.1 s`. */
export const spanOf = (ms: number): string => (ms < 1000 ? `${ms} ms` : `${Math.round(ms / 100) / 10} s`)

const result = (limit: string, of: number, measured: number | null, outcome: LimitResult['outcome'], said: string): LimitResult => ({
  ...{ limit, of, measured, outcome },
  words: said,
})

/** Each limit that is held, against what was measured. What nobody could measure is neither held nor broken. */
export function judgeLimits(limits: ProofLimits, m: Measured): LimitResult[] {
  const out: LimitResult[] = []
  const nothing = m.counts.produced === 0
  const blind = m.unwitnessed.length > 0 ? `no witness reads what ${m.unwitnessed.slice(0, 3).join(', ')} sends` : ''
  for (const key of ['missing', 'doubled', 'altered', 'disordered', 'late', 'dropped', 'rejected', 'unknown'] as const) {
    const of = limits[key]
    if (of === null) continue
    // Without a verdict they are not known to be well.
    const n = key === 'unknown' ? m.counts.unknown - m.unseen + m.counts.waiting : m.counts[key]
    const waiting = key === 'unknown' && m.counts.waiting > 0 ? `, ${m.counts.waiting} of them without a verdict yet` : ''
    const unproven = nothing ? 'nothing was produced' : seen.has(key) ? blind : ''
    if (n > of) out.push(result(key, of, n, 'broken', `${n} ${words[key]}${waiting}, at most ${of} are allowed`))
    else if (unproven !== '') out.push(result(key, of, null, 'unproven', `${words[key]} could not be counted: ${unproven}`))
    else out.push(result(key, of, n, 'held', `${n} ${words[key]}${waiting}, at most ${of} are allowed`))
  }
  const { p99Ms, recoveredS } = limits
  if (p99Ms !== null) {
    const p99 = m.latency?.p99 ?? null
    if (p99 === null) out.push(result('p99Ms', p99Ms, null, 'unproven', 'nothing arrived, so that nothing could be timed'))
    else
      out.push(result('p99Ms', p99Ms, p99, p99 <= p99Ms ? 'held' : 'broken', `99 of 100 arrived within ${spanOf(p99)}, ${spanOf(p99Ms)} are allowed`))
  }
  if (recoveredS !== null) out.push(recovery(recoveredS, m.recoveries))
  return out
}

function recovery(of: number, recoveries: Measured['recoveries']): LimitResult {
  if (recoveries.length === 0) return result('recoveredS', of, null, 'unproven', 'there was no fault to recover from')
  const never = recoveries.find((r) => r.begun && r.recoveredS === null)
  if (never) return result('recoveredS', of, null, 'broken', `after ${never.words} all was not well again before the run ended`)
  const worst = recoveries.reduce((a, b) => ((b.recoveredS ?? 0) > (a.recoveredS ?? 0) ? b : a))
  const held = (worst.recoveredS ?? 0) <= of
  const ahead = recoveries.find((r) => !r.begun)
  if (held && ahead) return result('recoveredS', of, null, 'unproven', `the run had ended before ${ahead.words} could begin`)
  return result(
    'recoveredS',
    of,
    worst.recoveredS,
    held ? 'held' : 'broken',
    `all was well ${worst.recoveredS} s after ${worst.words}, ${of} s are allowed`,
  )
}

/** What a run that came to its end has shown. */
export function outcomeOf(limits: readonly LimitResult[]): ProofOutcome {
  if (limits.some((l) => l.outcome === 'broken')) return 'broken'
  return limits.length === 0 || limits.some((l) => l.outcome === 'unproven') ? 'unproven' : 'held'
}
