import type { CertificateFacts, Credential } from '~/contract/credential'
import type { IntakeFinding } from '~/contract/intake'
import { finding } from './intake/finding'

/** What is held, or is to be. */
export interface Held {
  facts: CertificateFacts | null
  user: string | null
  endsAt: string | null
}

/** What is to be known before something takes the place of what a credential holds. */
export function replacementFindings(kind: Credential['kind'], old: Held, next: Held): IntakeFinding[] {
  return [...(old.facts && next.facts ? ofCertificates(kind, old.facts, next.facts) : []), ...ofLogins(old, next), ...ofEnds(old, next)]
}

function ofCertificates(kind: Credential['kind'], old: CertificateFacts, next: CertificateFacts): IntakeFinding[] {
  if (old.sha256 === next.sha256 && sameLists(old, next))
    return [finding('note', 'same', 'It is the certificate that is there already', 'Only its chain or its key file can differ')]
  const found: IntakeFinding[] = []
  if (old.sha256 !== next.sha256 && old.subject !== next.subject)
    found.push(
      finding(
        'warning',
        'other-subject',
        `It is for another name: ${next.subject}, after ${old.subject}`,
        'Peers that know who logs in by that name take it for somebody else: is it the right one?',
      ),
    )
  if (kind === 'authority' && old.sha256 !== next.sha256)
    found.push(
      finding(
        'note',
        'other-authority',
        'Peers whose certificates the old authority signed are not trusted any more',
        'Replace it when those peers have new certificates: trying it shows which have not',
      ),
    )
  if (kind === 'certificate' && old.issuer !== next.issuer)
    found.push(finding('note', 'other-issuer', `Another authority signed it: ${next.issuer}`, 'The other side has to trust that one'))
  return found
}

const sameLists = (old: CertificateFacts, next: CertificateFacts): boolean => JSON.stringify(old.lists ?? []) === JSON.stringify(next.lists ?? [])

function ofLogins(old: Held, next: Held): IntakeFinding[] {
  if (next.facts !== null || old.user === next.user) return []
  return [finding('warning', 'other-user', `It is another user: ${next.user}, after ${old.user}`, 'What that one may do there may differ')]
}

function ofEnds(old: Held, next: Held): IntakeFinding[] {
  if (next.endsAt === null || old.endsAt === null || Date.parse(next.endsAt) > Date.parse(old.endsAt)) return []
  if (next.endsAt === old.endsAt) return []
  return [
    finding(
      'warning',
      'ends-earlier',
      `It ends on ${next.endsAt.slice(0, 10)}, before the one that it replaces (${old.endsAt.slice(0, 10)})`,
      'Was an older one handed over?',
    ),
  ]
}
