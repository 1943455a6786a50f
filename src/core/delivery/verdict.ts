import type { Verdict } from '~/contract/live'
import { RangeSet } from './ranges'

/** Verdicts of a message that arrived, the worst last. */
export const arrivedVerdicts = ['confirmed', 'late', 'disordered', 'doubled', 'altered'] as const satisfies Verdict[]
/** Verdicts of a message that did not arrive (or of which nobody can say). */
export const lostVerdicts = ['missing', 'dropped', 'rejected', 'unknown'] as const satisfies Verdict[]
export const verdicts = [...arrivedVerdicts, ...lostVerdicts] as const

/**
 * Sets kept by window of sequence numbers: of an arrived message what was odd about it, of a lost one why, and which
 * of those not arrived were overtaken on their topic; `resent` are those that went out more than once, or may have. `late`, `disordered`, `doubled` and `altered` may hold for one
 * message at once; the lost ones exclude each other.
 */
export const oddSets = ['late', 'disordered', 'doubled', 'altered', 'missing', 'dropped', 'rejected', 'unknown', 'overtaken', 'resent'] as const
export type OddSet = (typeof oddSets)[number]

/** What is written by window besides: numbers with a verdict, and answered ones, beyond the gapless run from 1 on. */
export const openSets = ['known', 'answered'] as const
export type WindowSet = OddSet | (typeof openSets)[number]
export const windowSets: readonly WindowSet[] = [...oddSets, ...openSets]

/** Sequence numbers in one row of odd ones. */
export const ODD_WINDOW = 4096

export type Tally = Record<Verdict, number>
export const emptyTally = (): Tally => ({
  confirmed: 0,
  late: 0,
  disordered: 0,
  doubled: 0,
  altered: 0,
  missing: 0,
  dropped: 0,
  rejected: 0,
  unknown: 0,
})

/** How a delivery's messages stand. Every set grows with gaps and odd messages, none with messages. */
export interface Standing {
  /** Highest number that is safely in the outbox (or was). */
  storedThrough: number
  /** When the newest stored message was made, epoch ms. */
  madeAt: number
  /** How often the wall clock went back between two messages, so far that a slice of time came again. */
  turns: number
  /** How many the destination acknowledged. */
  acknowledged: number
  /** How many came on our topics that we never sent. */
  foreign: number
  /** Acknowledged, refused or dropped: nothing more is to be sent of these. */
  answered: RangeSet
  /** Those with a verdict. */
  known: RangeSet
  odd: Record<OddSet, RangeSet>
  /** Messages by verdict. */
  tally: Tally
}

export function emptyStanding(): Standing {
  return {
    storedThrough: 0,
    madeAt: 0,
    turns: 0,
    acknowledged: 0,
    foreign: 0,
    answered: new RangeSet(),
    known: new RangeSet(),
    odd: Object.fromEntries(oddSets.map((k) => [k, new RangeSet()])) as Record<OddSet, RangeSet>,
    tally: emptyTally(),
  }
}

/** The one verdict of a message: the worst of what holds; `waiting` while none can be given, null for one never stored. */
export function verdictOf(s: Standing, seq: number): Verdict | 'waiting' | null {
  if (seq < 1 || seq > s.storedThrough) return null
  if (!s.known.has(seq)) return 'waiting'
  for (const v of lostVerdicts) if (s.odd[v].has(seq)) return v
  if (s.odd.altered.has(seq)) return 'altered'
  if (s.odd.doubled.has(seq)) return 'doubled'
  if (s.odd.disordered.has(seq)) return 'disordered'
  if (s.odd.late.has(seq)) return 'late'
  return 'confirmed'
}
