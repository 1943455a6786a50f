import 'reflect-metadata'
import * as x509 from '@peculiar/x509'

/** A certificate that was found, with what its place in a chain follows from. */
export interface Link {
  from: string
  certificate: x509.X509Certificate
  der: Uint8Array
  /** Subject public key info (RFC 5280 4.1.2.7). */
  spki: Uint8Array
  authority: boolean
  selfIssued: boolean
}

/** A private key that was opened. */
export interface OpenKey {
  from: string
  /** PKCS#8, not locked. */
  pem: string
  /** Of its public half. */
  spki: Uint8Array
}

/** A certificate that has its key here, and what leads from it to an authority. */
export interface Kit {
  own: Link
  key: OpenKey
  /** Who signed it, and who signed those, as far as they are here; without one that signed itself. */
  chain: Link[]
  /** The one that signed itself, at the end of the chain; null: the chain does not lead to one here. */
  root: Link | null
}

export interface Sorted {
  kits: Kit[]
  /** Authorities to trust: they signed themselves, or nobody here signed them. */
  authorities: Link[]
  /** Authorities that others here signed, which are in no chain of a kit. */
  between: Link[]
  /** Certificates of others: no key to them is here. */
  others: Link[]
  /** Keys to which no certificate is here. */
  keys: OpenKey[]
}

export const same = (a: Uint8Array, b: Uint8Array): boolean => a.length === b.length && a.every((octet, i) => octet === b[i])

/** Reads a certificate; null: it cannot be read. */
export function linkOf(der: Uint8Array, from: string): Link | null {
  try {
    const certificate = new x509.X509Certificate(der as Uint8Array<ArrayBuffer>)
    const constraints = certificate.getExtension(x509.BasicConstraintsExtension)
    const selfIssued = certificate.subject === certificate.issuer
    // Read when they are asked for, and may be no names, times or algorithms.
    if (![certificate.notBefore, certificate.notAfter].every((at) => Number.isFinite(+at)) || !certificate.signatureAlgorithm) return null
    certificate.subjectName.getField('CN')
    certificate.issuerName.getField('CN')
    return {
      from,
      certificate,
      der,
      spki: new Uint8Array(certificate.publicKey.rawData),
      authority: constraints?.ca ?? false,
      selfIssued,
    }
  } catch {
    return null
  }
}

const keyIdOf = ({ certificate }: Link): string | undefined => certificate.getExtension(x509.SubjectKeyIdentifierExtension)?.keyId
const issuerIdOf = ({ certificate }: Link): string | undefined => certificate.getExtension(x509.AuthorityKeyIdentifierExtension)?.keyId

/** Whether the one may have signed the other, by names and key identifiers (RFC 5280 6.1, 4.2.1.1); the signature tells for sure. */
export function maySign(issuer: Link, of: Link): boolean {
  if (issuer.certificate.subject !== of.certificate.issuer) return false
  const [wanted, there] = [issuerIdOf(of), keyIdOf(issuer)]
  return wanted === undefined || there === undefined || wanted === there
}

async function signed(issuer: Link, of: Link): Promise<boolean> {
  if (!maySign(issuer, of)) return false
  try {
    return await of.certificate.verify({ publicKey: issuer.certificate.publicKey, signatureOnly: true })
  } catch {
    // An algorithm that is not known here: names and identifiers have to do.
    return true
  }
}

/** Longer chains are none. */
const CHAIN_MOST = 10

/** Sorts certificates and keys: which belongs to which, and who signed whom. Copies of one are taken once. */
export async function sorted(found: readonly Link[], keys: readonly OpenKey[]): Promise<Sorted> {
  const links = found.filter((l, i) => found.findIndex((other) => same(other.der, l.der)) === i)
  const open = keys.filter((k, i) => keys.findIndex((other) => same(other.spki, k.spki)) === i)
  const kits: Kit[] = []
  for (const key of open) {
    // Of one that was renewed with the same key the newest counts.
    const own = links.filter((l) => same(l.spki, key.spki)).sort((a, b) => +b.certificate.notAfter - +a.certificate.notAfter)[0]
    if (own) kits.push({ own, key, ...(await chainOf(own, links)) })
  }
  const owned = (l: Link) => open.some((key) => same(key.spki, l.spki))
  const inChain = (l: Link) => kits.some((kit) => kit.chain.includes(l))
  const rest = links.filter((l) => !owned(l))
  const signedHere = await Promise.all(rest.map(async (l) => !l.selfIssued && (await someone(links, (other) => other !== l && signed(other, l)))))
  return {
    kits,
    authorities: rest.filter((l, i) => l.authority && !signedHere[i] && !(inChain(l) && !l.selfIssued && kits.some((kit) => kit.root))),
    between: rest.filter((l, i) => l.authority && signedHere[i] && !inChain(l)),
    others: rest.filter((l) => !l.authority),
    keys: open.filter((key) => !kits.some((kit) => kit.key === key)),
  }
}

async function someone(links: readonly Link[], test: (l: Link) => false | Promise<boolean>): Promise<boolean> {
  for (const l of links) if (await test(l)) return true
  return false
}

async function chainOf(own: Link, links: readonly Link[]): Promise<{ chain: Link[]; root: Link | null }> {
  const chain: Link[] = []
  for (let at = own; chain.length < CHAIN_MOST; ) {
    if (at.selfIssued) return { chain: chain.filter((l) => l !== at), root: at === own ? null : at }
    const next = await issuerOf(at, links)
    if (!next || chain.includes(next) || next === own) break
    chain.push(next)
    at = next
  }
  return { chain, root: null }
}

/** Who signed it; of several that could have the one that is valid longest. */
async function issuerOf(of: Link, links: readonly Link[]): Promise<Link | null> {
  const able = await Promise.all(links.map(async (l) => (l !== of && (await signed(l, of)) ? l : null)))
  return able.filter((l) => l !== null).sort((a, b) => +b.certificate.notAfter - +a.certificate.notAfter)[0] ?? null
}
