import type { Verdict } from '~/contract/live'
import type { Arrival, Copy } from '~/standins/broker/truth'

/** What was handed to the sender: a message's number, its topic and when it was made (epoch ms). */
export interface Made {
  seq: number
  topic: string
  producedAt: number
}

export interface Expectation {
  /** By number: what a message must have ended as; more than one where two clocks decide (late or not). */
  verdicts: Map<number, readonly (Verdict | 'waiting')[]>
  /** Copies that belong to no message. */
  foreign: number
}

/** At QoS 0 nothing is acknowledged: how long a copy may take where nothing that went out after it tells. */
const QOS0_SLACK_MS = 5000

/**
 * When a copy was with the witness at the latest (epoch ms). What travels on one connection is read in its order: a copy that went out
 * later and is acknowledged was read later. One that is to be acknowledged and is not may have gone into a dead link, and come again.
 */
function latestOf(copies: readonly Copy[]): (copy: Copy, qos: 0 | 1 | 2) => number {
  const acknowledged = copies.filter((c) => c.sentAt !== null && c.ackedAt !== null).sort((a, b) => a.sentAt! - b.sentAt!)
  const earliestFrom = acknowledged.map((c) => c.ackedAt!)
  for (let i = earliestFrom.length - 2; i >= 0; i--) earliestFrom[i] = Math.min(earliestFrom[i]!, earliestFrom[i + 1]!)
  return (copy, qos) => {
    if (copy.ackedAt !== null) return copy.ackedAt
    if (qos > 0) return Number.POSITIVE_INFINITY
    let low = 0
    let high = acknowledged.length
    while (low < high) {
      const middle = (low + high) >> 1
      if (acknowledged[middle]!.sentAt! > copy.sentAt!) high = middle
      else low = middle + 1
    }
    return Math.min(copy.sentAt! + QOS0_SLACK_MS, earliestFrom[low] ?? Number.POSITIVE_INFINITY)
  }
}

/**
 * What the broker's log says became of every message, told the plain way: one row a message, all copies looked at together.
 * `keyOf` gives the key under which the log knows a message. Without ids (3.1.1) an altered copy is nobody's.
 */
export function expected(
  made: readonly Made[],
  keyOf: (m: Made) => string,
  log: { arrivals: readonly Arrival[]; copies: readonly Copy[] },
  o: { witness: string; lateMs: number; byId: boolean },
): Expectation {
  const arrivalsOf = new Map<string, number[]>()
  const qosOf = new Map(log.arrivals.map((a) => [a.n, a.qos]))
  for (const a of log.arrivals) if (a.key !== null) arrivalsOf.set(a.key, [...(arrivalsOf.get(a.key) ?? []), a.n])
  const copiesOf = new Map<number, Copy[]>()
  for (const c of log.copies) {
    if (c.client !== o.witness) continue
    const list = copiesOf.get(c.arrival)
    if (list) list.push(c)
    else copiesOf.set(c.arrival, [c])
  }
  let foreign = 0
  const rows = made.map((m) => {
    const all = (arrivalsOf.get(keyOf(m)) ?? []).flatMap((n) => copiesOf.get(n) ?? []).filter((c) => c.order !== null && c.sentAt !== null)
    const copies = o.byId ? all : all.filter((c) => c.fate !== 'altered')
    foreign += all.length - copies.length
    copies.sort((a, b) => a.order! - b.order!)
    return { m, copies }
  })
  // Per topic, in the order in which first copies went out: who came after a later one?
  const disordered = new Set<number>()
  const newest = new Map<string, number>()
  for (const { m } of rows.filter((r) => r.copies.length > 0).sort((a, b) => a.copies[0]!.order! - b.copies[0]!.order!)) {
    const before = newest.get(m.topic) ?? 0
    if (m.seq < before) disordered.add(m.seq)
    else newest.set(m.topic, m.seq)
  }
  const verdicts = new Map<number, readonly (Verdict | 'waiting')[]>()
  const latest = latestOf([...copiesOf.values()].flat())
  for (const { m, copies } of rows) {
    const [first] = copies
    if (!first) verdicts.set(m.seq, ['missing'])
    else if (copies.some((c) => c.fate === 'altered')) verdicts.set(m.seq, ['altered'])
    else if (copies.length > 1) verdicts.set(m.seq, ['doubled'])
    else if (disordered.has(m.seq)) verdicts.set(m.seq, ['disordered'])
    else {
      const limit = m.producedAt + o.lateMs
      const earliest = first.sentAt!
      const arrived = latest(first, qosOf.get(first.arrival) ?? 0)
      verdicts.set(m.seq, earliest > limit ? ['late'] : arrived <= limit ? ['confirmed'] : ['confirmed', 'late'])
    }
  }
  return { verdicts, foreign }
}

/** Every message whose verdict is not what it must be. */
export function disagreements(
  e: Expectation,
  verdict: (seq: number) => string | null,
): { seq: number; is: string | null; should: readonly string[] }[] {
  const out: { seq: number; is: string | null; should: readonly string[] }[] = []
  for (const [seq, should] of e.verdicts) {
    const is = verdict(seq)
    if (!should.includes(is as Verdict)) out.push({ seq, is, should })
  }
  return out
}

/** How many messages must have ended as what; where two clocks decide they stand under `either`. */
export function tallied(e: Expectation): Record<string, number> {
  const sums: Record<string, number> = {}
  for (const v of e.verdicts.values()) {
    const k = v.length === 1 ? v[0]! : 'either'
    sums[k] = (sums[k] ?? 0) + 1
  }
  return sums
}
