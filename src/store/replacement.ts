import { type Selectable, sql } from 'kysely'
import type { Credential } from '~/contract/credential'
import { fail } from '~/contract/failure'
import { listCredentials, type NewCredential, place } from './credential'
import { announce, type Conn, type Db } from './database'
import { signerOf } from './issued'
import type { Tables } from './tables'
import { transacted } from './transacted'
import type { Vault } from './vault'

const unknown = () => fail(404, 'credential.unknown', 'There is no such credential', 'Refresh the list', 'credential')
const nothingBefore = (name: string) =>
  fail(409, 'credential.nothing-before', `Nothing is kept of what ${name} held before`, 'It was let go of already: refresh the list', 'credential')

type Content = Pick<Selectable<Tables['credential_before']>, 'certificate' | 'facts' | 'user_name' | 'secret' | 'ends_at' | 'recipe'>

const contentOf = ({ certificate, facts, user_name, secret, ends_at, recipe }: Content) => ({
  certificate,
  facts: facts && JSON.stringify(facts),
  user_name,
  secret,
  ends_at,
  recipe: recipe && JSON.stringify(recipe),
})

async function locked(tx: Conn, id: string) {
  const row = await tx.selectFrom('credential').selectAll().where('id', '=', id).forUpdate().executeTakeFirst()
  if (!row) throw unknown()
  return row
}

/** Puts it there, within what else is done, and keeps what was there. */
export async function replaceIn(tx: Conn, vault: Vault, id: string, next: Omit<NewCredential, 'name'>): Promise<void> {
  const row = await locked(tx, id)
  await tx
    .insertInto('credential_before')
    .values({ credential_id: id, ...contentOf(row) })
    .execute()
  await tx
    .updateTable('credential')
    .set({
      certificate: next.certificate,
      facts: next.facts && JSON.stringify(next.facts),
      user_name: next.user,
      secret: next.secret === null ? null : vault.seal(next.secret, place(id)),
      ends_at: next.endsAt ? new Date(next.endsAt) : null,
      recipe: next.recipe ? JSON.stringify(next.recipe) : null,
    })
    .where('id', '=', id)
    .execute()
}

/** Puts something new in the place of what a credential holds, for all that use it at once; what it held is kept beside it. */
export async function replaceCredential(db: Db, vault: Vault, id: string, next: Omit<NewCredential, 'name'>): Promise<Credential> {
  return transacted(db, async (tx) => {
    const row = await locked(tx, id)
    if (row.kind !== next.kind)
      throw fail(422, 'replacement.kind', `${row.name} holds something of another kind`, 'Only the same can take its place', 'credential')
    const before = await tx.selectFrom('credential_before').select('credential_id').where('credential_id', '=', id).executeTakeFirst()
    if (before)
      throw fail(
        409,
        'replacement.unconfirmed',
        `What ${row.name} held before is still kept`,
        'Remove it if all is well with the new one, or put it back; then replace it again',
        'credential',
      )
    await replaceIn(tx, vault, id, next)
    // What somebody else signed is not renewed here.
    if (!(await signerOf(tx, next.facts))) await tx.updateTable('credential').set({ renew_days: null }).where('id', '=', id).execute()
    await announce(tx, 'credential')
    return (await listCredentials(tx)).find((c) => c.id === id)!
  })
}

/** Takes back what a credential held before; what took its place is kept in turn. */
export async function putBack(db: Db, id: string): Promise<Credential> {
  return transacted(db, async (tx) => {
    const row = await locked(tx, id)
    const before = await tx.selectFrom('credential_before').selectAll().where('credential_id', '=', id).executeTakeFirst()
    if (!before) throw nothingBefore(row.name)
    // Who puts an old one back does not want its successor again in ten minutes.
    await tx
      .updateTable('credential')
      .set({ ...contentOf(before), renew_days: null })
      .where('id', '=', id)
      .execute()
    await tx
      .updateTable('credential_before')
      .set({ ...contentOf(row), replaced_at: sql<Date>`now()` })
      .where('credential_id', '=', id)
      .execute()
    await announce(tx, 'credential')
    return (await listCredentials(tx)).find((c) => c.id === id)!
  })
}

/** Lets go of what a credential held before. */
export async function forgetBefore(db: Db, id: string): Promise<Credential> {
  return transacted(db, async (tx) => {
    const row = await locked(tx, id)
    const gone = await tx.deleteFrom('credential_before').where('credential_id', '=', id).executeTakeFirst()
    if (gone.numDeletedRows === 0n) throw nothingBefore(row.name)
    return (await listCredentials(tx)).find((c) => c.id === id)!
  })
}
