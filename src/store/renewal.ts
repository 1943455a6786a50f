import type { CertificateFacts, Credential } from '~/contract/credential'
import { fail } from '~/contract/failure'
import { listCredentials, type NewCredential } from './credential'
import { announce, type Conn, type Db } from './database'
import { signerOf } from './issued'
import { replaceIn } from './replacement'
import { transacted } from './transacted'
import type { Vault } from './vault'

/** What came before is let go of by a renewal only when it was kept for so long, ms. */
const KEPT_MS = 7 * 86_400_000

/** Says how many days before its end a certificate is renewed; null: not by itself. Only one that an authority of ours signed can be. */
export async function setRenewal(db: Db, id: string, days: number | null): Promise<Credential> {
  return transacted(db, async (tx) => {
    const row = await tx.selectFrom('credential').select(['name', 'kind', 'facts']).where('id', '=', id).forUpdate().executeTakeFirst()
    if (!row) throw fail(404, 'credential.unknown', 'There is no such credential', 'Refresh the list', 'credential')
    if (days !== null && (row.kind !== 'certificate' || (await signerOf(tx, row.facts)) === null))
      throw fail(
        409,
        'renewal.signer',
        `${row.name} was not signed by an authority that was made here`,
        'Ask who signed it for its successor',
        'credential',
      )
    await tx.updateTable('credential').set({ renew_days: days }).where('id', '=', id).execute()
    await announce(tx, 'credential')
    return (await listCredentials(tx)).find((c) => c.id === id)!
  })
}

/** A certificate that renews itself. */
export interface Renewed {
  id: string
  name: string
  days: number
  certificate: string
  facts: CertificateFacts
  /** Null: its authority is gone, or took it back. */
  authorityId: string | null
}

export async function listRenewed(db: Conn): Promise<Renewed[]> {
  const rows = await db
    .selectFrom('credential')
    .select(['id', 'name', 'renew_days', 'certificate', 'facts'])
    .where('renew_days', 'is not', null)
    .where('kind', '=', 'certificate')
    .execute()
  const out: Renewed[] = []
  for (const { id, name, renew_days, certificate, facts } of rows)
    if (certificate && facts) out.push({ id, name, days: renew_days!, certificate, facts, authorityId: await signerOf(db, facts) })
  return out
}

/**
 * Puts the successor in the place of a certificate, and keeps what it was; gives false when it holds another one by now, or when
 * what came before that is still young and nobody has let go of it.
 */
export async function renew(
  db: Db,
  vault: Vault,
  of: Renewed,
  next: Omit<NewCredential, 'name'>,
  by: { serial: string; notAfter: Date; now: number },
): Promise<boolean> {
  return transacted(db, async (tx) => {
    const row = await tx.selectFrom('credential').select('facts').where('id', '=', of.id).forUpdate().executeTakeFirst()
    if (row?.facts?.sha256 !== of.facts.sha256) return false
    const before = await tx.selectFrom('credential_before').select('replaced_at').where('credential_id', '=', of.id).executeTakeFirst()
    if (before && by.now - before.replaced_at.getTime() < KEPT_MS) return false
    await tx.deleteFrom('credential_before').where('credential_id', '=', of.id).execute()
    await replaceIn(tx, vault, of.id, next)
    const issued = { authority_id: of.authorityId!, serial: by.serial, subject: next.facts!.subject, not_after: by.notAfter }
    await tx.insertInto('issued_certificate').values(issued).execute()
    await announce(tx, 'credential')
    return true
  })
}
