import type { ProofFault, ProofOutcome } from '~/contract/prove'

const ways: Record<ProofFault['way'], string> = { both: 'both ways', there: 'on the way there', back: 'on the way back' }

/** `Site broker cut for 5 s`. */
export function faultWords(f: Pick<ProofFault, 'kind' | 'forS' | 'way' | 'ms' | 'octetsPerS'>, destination: string): string {
  const span = `for ${f.forS} s`
  switch (f.kind) {
    case 'cut':
      return `${destination} cut off ${span}`
    case 'kill':
      return `the connections of ${destination} reset`
    case 'refuse':
      return `${destination} lets no new connection in ${span}`
    case 'silent':
      return `${destination} silent ${ways[f.way]} ${span}`
    case 'slow':
      return `${destination} slower by ${f.ms} ms ${span}`
    case 'thin':
      return `${destination} at ${f.octetsPerS} octets/s ${span}`
  }
}

/** What came after a fault. */
export const recoveryWords = (f: { begun: boolean; recoveredS: number | null }): string =>
  !f.begun
    ? 'the run had ended before it began'
    : f.recoveredS === null
      ? 'not well again within the run'
      : `well again ${f.recoveredS} s after it ended`

/** A run in a sentence. */
export const outcomeWords: Record<ProofOutcome, string> = {
  held: 'Every limit was held',
  broken: 'A limit was broken',
  unproven: 'Not all of it could be measured',
  stopped: 'It was stopped before its end',
  failed: 'It did not come to its end',
}
