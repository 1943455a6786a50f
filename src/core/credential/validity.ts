import type { CertificateFacts } from '~/contract/credential'

/** Whole days until it expires, negative when it has. */
export function daysLeft(facts: Pick<CertificateFacts, 'notAfter'>, now: number): number {
  return Math.floor((Date.parse(facts.notAfter) - now) / 86_400_000)
}

/** With fewer days left it is warned of. */
export const ENDS_SOON_DAYS = 30
