import type { CertificateFacts, Credential } from '~/contract/credential'
import { fail } from '~/contract/failure'
import { newId } from '~/contract/id'
import type { Issued, TakeBack } from '~/contract/make'
import type { TakenBack } from '~/core/credential/make/issue'
import { addIn, listCredentials, type NewCredential } from './credential'
import { announce, type Conn, type Db } from './database'
import { transacted } from './transacted'
import type { Vault } from './vault'

/** Keeps a certificate that an authority of ours signed, and that it did. */
export async function addIssued(
  db: Db,
  vault: Vault,
  c: NewCredential,
  by: { authorityId: string; serial: string; subject: string; notAfter: Date },
): Promise<Credential> {
  return transacted(db, async (tx) => {
    const id = newId()
    await addIn(tx, vault, c, id)
    const { authorityId: authority_id, serial, subject, notAfter: not_after } = by
    await tx.insertInto('issued_certificate').values({ authority_id, serial, subject, not_after }).execute()
    await announce(tx, 'credential')
    return (await listCredentials(tx)).find((one) => one.id === id)!
  })
}

/** Who signed a certificate, of our authorities; null: none of them, or it was taken back. */
export async function signerOf(db: Conn, facts: CertificateFacts | null): Promise<string | null> {
  if (!facts) return null
  const row = await db
    .selectFrom('issued_certificate')
    .select('authority_id')
    .where('serial', '=', facts.serial.toLowerCase())
    .where('taken_back_at', 'is', null)
    .executeTakeFirst()
  return row?.authority_id ?? null
}

/** What an authority signed, the newest first. */
export async function listIssued(db: Conn, authorityId: string): Promise<Issued[]> {
  const rows = await db
    .selectFrom('issued_certificate')
    .selectAll()
    .where('authority_id', '=', authorityId)
    .orderBy('issued_at', 'desc')
    .orderBy('serial')
    .execute()
  return rows.map((r) => ({
    serial: r.serial,
    subject: r.subject,
    issuedAt: r.issued_at.toISOString(),
    notAfter: r.not_after.toISOString(),
    takenBackAt: r.taken_back_at?.toISOString() ?? null,
    reason: r.reason,
  }))
}

/** What an authority is kept as, with its list of what was taken back. */
export type Listed = (all: readonly TakenBack[]) => Promise<{ certificate: string; facts: CertificateFacts }>

/** Takes a certificate back: its authority's list names it from now on. `listed` makes that list of all that were. */
export async function takeBack(db: Db, authorityId: string, { serial, reason }: TakeBack, listed: Listed): Promise<Credential> {
  return transacted(db, async (tx) => {
    // One after the other: each list holds all that were taken back before.
    const row = await tx.selectFrom('credential').select('id').where('id', '=', authorityId).forUpdate().executeTakeFirst()
    if (!row) throw fail(404, 'credential.unknown', 'There is no such credential', 'Refresh the list', 'credential')
    const taken = await tx
      .updateTable('issued_certificate')
      .set({ taken_back_at: new Date(), reason })
      .where('authority_id', '=', authorityId)
      .where('serial', '=', serial)
      .where('taken_back_at', 'is', null)
      .executeTakeFirst()
    if (taken.numUpdatedRows === 0n)
      throw fail(409, 'issued.unknown', 'This authority did not sign it, or it was taken back already', 'Refresh the list', 'credential')
    const rows = await tx
      .selectFrom('issued_certificate')
      .select(['serial', 'taken_back_at', 'reason'])
      .where('authority_id', '=', authorityId)
      .where('taken_back_at', 'is not', null)
      .orderBy('taken_back_at')
      .execute()
    const next = await listed(rows.map((r) => ({ serial: r.serial, at: r.taken_back_at!, reason: r.reason ?? 'unspecified' })))
    await tx
      .updateTable('credential')
      .set({ certificate: next.certificate, facts: JSON.stringify(next.facts) })
      .where('id', '=', authorityId)
      .execute()
    await announce(tx, 'credential')
    return (await listCredentials(tx)).find((c) => c.id === authorityId)!
  })
}

/** A signing request becomes the certificate that was answered to it; its key stays. */
export async function answerRequest(db: Db, id: string, answer: { certificate: string; facts: CertificateFacts }): Promise<Credential> {
  return transacted(db, async (tx) => {
    const updated = await tx
      .updateTable('credential')
      .set({ kind: 'certificate', certificate: answer.certificate, facts: JSON.stringify(answer.facts), user_name: null })
      .where('id', '=', id)
      .where('kind', '=', 'request')
      .executeTakeFirst()
    if (updated.numUpdatedRows === 0n) throw fail(409, 'request.answered', 'This is no signing request any more', 'Refresh the list', 'credential')
    await announce(tx, 'credential')
    return (await listCredentials(tx)).find((c) => c.id === id)!
  })
}
