import type { FaultKind, ProofFault, ProofOutcome, ProofPlan, ProofRun } from '~/contract/prove'
import type { GlyphState } from '~/ui/Glyph'

export const outcomeGlyph: Record<ProofOutcome, GlyphState> = { held: 'good', broken: 'bad', failed: 'bad', unproven: 'uncertain', stopped: 'idle' }

/** What a run ended in, in a word or two. */
export const outcomeShort: Record<ProofOutcome, string> = {
  held: 'every limit held',
  broken: 'a limit broken',
  unproven: 'not all measured',
  stopped: 'stopped',
  failed: 'did not end',
}

export const stateOf = ({ outcome }: Pick<ProofRun, 'outcome'>): GlyphState => (outcome === null ? 'uncertain' : outcomeGlyph[outcome])

export const faultKinds: { value: FaultKind; label: string; says: string }[] = [
  { value: 'cut', label: 'Cut off', says: 'Connections are reset, and none is let in' },
  { value: 'kill', label: 'Reset once', says: 'Connections are reset, and may come back at once' },
  { value: 'refuse', label: 'Let none in', says: 'Connections that stand stay, new ones are refused' },
  { value: 'silent', label: 'Silent', says: 'Nothing comes through, and nobody is told: a half-open link' },
  { value: 'slow', label: 'Slow', says: 'Everything comes later, each way' },
  { value: 'thin', label: 'Thin', says: 'Few octets a second, each way' },
]

export const freshFault = (destinationId: string, seconds: number): ProofFault => ({
  ...{ destinationId, kind: 'cut', atS: Math.round(seconds / 3), forS: Math.min(10, Math.max(1, Math.round(seconds / 6))), way: 'both' },
  ...{ ms: 1000, octetsPerS: 1000 },
})

/** A run before anything of it is chosen. */
export const freshPlan = (publicationIds: string[] = []): ProofPlan => ({
  ...{ name: '', publicationIds, seconds: 60, load: 1, settleS: 60, faults: [] },
  limits: { missing: 0, doubled: 0, altered: 0, disordered: null, late: null, dropped: 0, rejected: 0, unknown: 0, p99Ms: null, recoveredS: null },
})

/** `60 s of 2 publications at 10 times their load, with 2 faults`. */
export function planWords({ publicationIds, seconds, messages, load, faults }: ProofPlan): string {
  const of = `${publicationIds.length} ${publicationIds.length === 1 ? 'publication' : 'publications'}`
  const until = messages === undefined ? '' : ` or ${messages} messages`
  const more = load === 1 ? '' : `, simulated tags at ${load} times their pace`
  const with_ = faults.length === 0 ? '' : `, with ${faults.length} ${faults.length === 1 ? 'fault' : 'faults'}`
  return `${seconds} s${until} of ${of}${more}${with_}`
}
