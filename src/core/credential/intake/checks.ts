import 'reflect-metadata'
import * as x509 from '@peculiar/x509'
import type { IntakeFinding } from '~/contract/intake'
import { daysLeft, ENDS_SOON_DAYS } from '../validity'
import { dayOf, finding } from './finding'
import type { Kit, Link } from './kits'
import { issuerName, nameOf } from './names'

/** What a certificate is to be used for. */
export type Purpose = 'client' | 'server' | 'authority'

const RSA_BITS = 2048
/** Any extended key usage (RFC 5280 4.2.1.12). */
const ANY_USE = '2.5.29.37.0'

/** What is to be said of one certificate by itself, at `now` (epoch ms). */
export function certificateFindings({ certificate: c }: Link, purpose: Purpose, now: number): IntakeFinding[] {
  const who = nameOf(c)
  return [...dates(c, who, now), ...strength(c, who), ...uses(c, who, purpose)]
}

function dates(c: x509.X509Certificate, who: string, now: number): IntakeFinding[] {
  const left = daysLeft({ notAfter: c.notAfter.toISOString() }, now)
  if (now < +c.notBefore)
    return [
      finding(
        'stop',
        'not-yet',
        `${who} is valid only from ${dayOf(c.notBefore)} on`,
        'Is the clock of this machine right? Else ask for one that is valid now',
      ),
    ]
  if (now > +c.notAfter) return [finding('stop', 'expired', `${who} ended on ${dayOf(c.notAfter)}`, 'Ask whoever made it for a new one')]
  if (left < ENDS_SOON_DAYS)
    return [finding('warning', 'ends-soon', `${who} ends in ${left} days, on ${dayOf(c.notAfter)}`, 'Ask for its successor now')]
  return []
}

function strength(c: x509.X509Certificate, who: string): IntakeFinding[] {
  const { modulusLength } = c.publicKey.algorithm as { modulusLength?: number }
  const hash = (c.signatureAlgorithm as { hash?: { name?: string } }).hash?.name ?? ''
  const found: IntakeFinding[] = []
  if (modulusLength !== undefined && modulusLength < RSA_BITS)
    found.push(
      finding(
        'stop',
        'short-key',
        `The key of ${who} has ${modulusLength} bits`,
        `Ask for one with ${RSA_BITS} bits, or an elliptic curve: most peers take no less`,
      ),
    )
  if (/^(SHA-1|MD5)$/i.test(hash) && c.subject !== c.issuer)
    found.push(finding('stop', 'old-signature', `${who} is signed with ${hash}`, 'Ask for one that is signed with SHA-256: peers refuse the old one'))
  return found
}

function uses(c: x509.X509Certificate, who: string, purpose: Purpose): IntakeFinding[] {
  const usage = c.getExtension(x509.KeyUsagesExtension)?.usages
  const further = c.getExtension(x509.ExtendedKeyUsageExtension)?.usages as string[] | undefined
  const constraints = c.getExtension(x509.BasicConstraintsExtension)
  if (purpose === 'authority') {
    if (constraints && !constraints.ca)
      return [finding('stop', 'no-authority', `${who} is not an authority`, 'Take the certificate that signed it, usually called CA or root')]
    if (usage !== undefined && (usage & x509.KeyUsageFlags.keyCertSign) === 0)
      return [finding('stop', 'may-not-sign', `${who} may not sign certificates (key usage)`, 'Take the authority that signed it')]
    return []
  }
  const found: IntakeFinding[] = []
  if (constraints?.ca)
    found.push(finding('warning', 'is-authority', `${who} is an authority, used as a ${purpose}`, 'Many peers refuse that: use one that it signed'))
  const wanted = purpose === 'client' ? x509.ExtendedKeyUsage.clientAuth : x509.ExtendedKeyUsage.serverAuth
  if (further && !further.includes(wanted) && !further.includes(ANY_USE))
    found.push(
      finding(
        'stop',
        'other-purpose',
        `${who} may not be used as a ${purpose} (extended key usage)`,
        `Ask for one made for TLS ${purpose} authentication`,
      ),
    )
  const signs = x509.KeyUsageFlags.digitalSignature | x509.KeyUsageFlags.keyAgreement | x509.KeyUsageFlags.keyEncipherment
  if (usage !== undefined && (usage & signs) === 0)
    found.push(finding('stop', 'key-usage', `${who} may not sign a handshake (key usage)`, 'Ask for one with the key usage digital signature'))
  return found
}

/** What is to be said of a certificate with its key and chain, beside each by itself. */
export function kitFindings(kit: Kit, order: readonly Link[]): IntakeFinding[] {
  const { own, chain, root } = kit
  const who = nameOf(own.certificate)
  const found: IntakeFinding[] = []
  if (own.selfIssued)
    found.push(finding('note', 'self-signed', `${who} signed itself`, 'The other side has to trust just this one: hand it over there'))
  else if (!root) {
    const last = chain.at(-1) ?? own
    found.push(
      finding(
        'note',
        'chain-open',
        `The chain of ${who} ends at ${nameOf(last.certificate)}, whose issuer ${issuerName(last.certificate)} is not here`,
        'Where the other side knows that issuer all is well; else ask for the missing certificates',
      ),
    )
  }
  const places = [own, ...chain].map((l) => order.indexOf(l))
  if (places.some((at, i) => i > 0 && at < places[i - 1]!))
    found.push(finding('note', 'chain-order', `The chain of ${who} stood out of order`, 'Embrik sends it in order: nothing is to be done'))
  return found
}
