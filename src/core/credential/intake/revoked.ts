import 'reflect-metadata'
import * as x509 from '@peculiar/x509'
import type { IntakeFinding } from '~/contract/intake'
import { dayOf, finding } from './finding'
import type { Link } from './kits'
import { nameOf } from './names'

/** A revocation list (RFC 5280 5) that was found. */
export interface List {
  from: string
  der: Uint8Array
  list: x509.X509Crl
  issuer: string
}

/** Reads a revocation list; null: it cannot be read. */
export function listIn(der: Uint8Array, from: string): List | null {
  try {
    const list = new x509.X509Crl(der as Uint8Array<ArrayBuffer>)
    if (!Number.isFinite(+list.thisUpdate)) return null
    return { from, der, list, issuer: list.issuerName.getField('CN')[0] ?? list.issuer }
  } catch {
    return null
  }
}

/** Who made a list, by name and signature, among the certificates that are here, and whether its signature says so too; null: nobody of them. */
async function signerOf({ list }: List, links: readonly Link[]): Promise<{ link: Link; signed: boolean } | null> {
  // One that was renewed with another key has the name of the one before.
  const named = links.filter((l) => l.certificate.subject === list.issuer)
  for (const link of named) {
    try {
      if (await list.verify({ publicKey: link.certificate.publicKey })) return { link, signed: true }
    } catch {
      // An algorithm that is not known here: its name has to do.
      return { link, signed: true }
    }
  }
  return named[0] ? { link: named[0], signed: false } : null
}

/** What revocation lists say of the certificates that they speak of, and what is to be said of the lists, at `now` (epoch ms). */
export async function revocationFindings(lists: readonly List[], links: readonly Link[], now: number): Promise<IntakeFinding[]> {
  const found: IntakeFinding[] = []
  for (const list of lists) {
    const signer = await signerOf(list, links)
    if (signer && !signer.signed) {
      found.push(
        finding(
          'warning',
          'list-unsigned',
          `The revocation list of ${list.issuer} is not signed by ${nameOf(signer.link.certificate)}`,
          'It was altered, or is of another authority of that name: it counts for nothing here',
        ),
      )
      continue
    }
    const { nextUpdate } = list.list
    if (nextUpdate && +nextUpdate < now)
      found.push(
        finding(
          'warning',
          'list-old',
          `The revocation list of ${list.issuer} was good until ${dayOf(nextUpdate)}`,
          'Ask for the present one: this one is not kept, since nothing would be accepted with it',
        ),
      )
    for (const link of links) {
      if (link.certificate.issuer !== list.list.issuer) continue
      const entry = list.list.findRevoked(link.certificate)
      if (entry)
        found.push(
          finding(
            'stop',
            'revoked',
            `${nameOf(link.certificate)} was taken back by ${list.issuer} on ${dayOf(entry.revocationDate)}`,
            'Peers that read the list refuse it: ask for a new one',
          ),
        )
    }
  }
  return found
}
