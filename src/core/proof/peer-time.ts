/** What a peer told of its time, and when it was asked and answered by our wall clock, epoch ms. */
export interface PeerTime {
  theirs: number
  asked: number
  answered: number
  /** Its way of telling leaves out so much: a header in whole seconds is cut by up to one. ms */
  cutMs: number
  how: string
}

/**
 * How far a peer's clock is from ours: it told its time somewhere between question and answer (RFC 5905 8, with one timestamp), and
 * what it told may lie up to `cutMs` before what it meant.
 */
export function offsetOf({ theirs, asked, answered, cutMs }: PeerTime): { offsetMs: number; withinMs: number } {
  const half = (answered - asked) / 2
  return { offsetMs: theirs + cutMs / 2 - (asked + half), withinMs: half + cutMs / 2 }
}

/** What is read of a `date` header (RFC 9110 6.6.1), epoch ms; null: it is none. */
export function headerTime(date: string | undefined): number | null {
  const t = Date.parse(date ?? '')
  return Number.isNaN(t) ? null : t
}

/** Certificates and tokens begin to fail, and latencies to mislead, from such differences on, ms. */
const LATENCY_MS = 100
const TOKENS_MS = 30_000

/** What a difference means for somebody who reads latencies or connects by certificates. */
export function offsetMeaning(o: { offsetMs: number; withinMs: number }): { state: 'good' | 'uncertain' | 'bad'; words: string } {
  const by = Math.abs(o.offsetMs) - o.withinMs
  if (by <= LATENCY_MS) return { state: 'good', words: 'in step, as exactly as can be told' }
  const way = o.offsetMs > 0 ? 'ahead' : 'behind'
  if (by < TOKENS_MS) return { state: 'uncertain', words: `${way}: latencies of what it stamps are off by that much` }
  return { state: 'bad', words: `${way}: tokens and young certificates are refused, and latencies mean nothing` }
}
