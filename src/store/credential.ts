import { sql } from 'kysely'
import type { CertificateFacts, Credential, CredentialUse } from '~/contract/credential'
import type { DestinationDraft } from '~/contract/destination'
import { FailureError, fail } from '~/contract/failure'
import { newId } from '~/contract/id'
import { credentialsOf, type SourceDraft } from '~/contract/source'
import type { TokenRecipe } from '~/contract/token'
import { kindOf } from '~/core/address/kinds'
import { destinationUses, sourceUses, type Use } from '~/core/credential/reach'
import { announce, type Conn, type Db, explain } from './database'
import { transacted } from './transacted'
import type { Vault } from './vault'

/** Where the secret of a credential stands: what is sealed for one place opens at no other. */
export const place = (id: string) => `credential:${id}`
/** What says who one is by being handed over, or by what is made from it. */
const LOGINS: readonly Credential['kind'][] = ['password', 'token']
const words = { credential_name: { field: 'name', message: 'Another credential has this name' } }

/** What is stored: the public part as it is, the secret (private key or password) sealed. */
export interface NewCredential {
  name: string
  kind: Credential['kind']
  certificate: string | null
  facts: CertificateFacts | null
  user: string | null
  secret: string | null
  places?: string[]
  /** Of a token that is the password, when it ends, epoch ms. */
  endsAt?: number | null
  /** How tokens are made from the secret. */
  recipe?: TokenRecipe | null
}

function credentialsAt({ kind, settings }: Pick<DestinationDraft, 'kind' | 'settings'>): (string | null | undefined)[] {
  const further = kindOf({ kind }).furtherCredentials ?? []
  const of = settings as Readonly<Record<string, unknown>>
  return [settings.authorityId, settings.credentialId, settings.witnessCredentialId, ...further.map((field) => of[field] as string | null)]
}

export async function listCredentials(db: Conn): Promise<Credential[]> {
  const rows = await db
    .selectFrom('credential as c')
    .leftJoin('credential_before as b', 'b.credential_id', 'c.id')
    .select(['c.id', 'c.name', 'c.kind', 'c.certificate', 'c.facts', 'c.user_name as user', 'c.recipe', 'c.places', 'c.ends_at', 'c.renew_days'])
    .select(['b.replaced_at', 'b.facts as before_facts', 'b.user_name as before_user'])
    .select((q) => q('c.secret', 'is not', null).as('keyed'))
    .select(({ exists, selectFrom }) =>
      exists(
        selectFrom('issued_certificate as i')
          .select('i.serial')
          .where('i.taken_back_at', 'is', null)
          .whereRef('i.serial', '=', sql<string>`lower(c.facts->>'serial')`),
      ).as('signed'),
    )
    .orderBy('c.name')
    .execute()
  const used = await usesOf(db)
  return rows.map(({ ends_at, renew_days, replaced_at, before_facts, before_user, keyed, signed, ...row }) => ({
    ...row,
    issues: row.kind === 'authority' && Boolean(keyed),
    usedBy: row.kind === 'application' ? used.application : (used.by.get(row.id) ?? []),
    endsAt: row.facts?.notAfter ?? ends_at?.toISOString() ?? null,
    ownSigned: Boolean(signed),
    renewDays: renew_days,
    before: replaced_at && { replacedAt: replaced_at.toISOString(), facts: before_facts, user: before_user },
  }))
}

/** What uses each credential, and what uses Embrik's own certificate. */
async function usesOf(db: Conn): Promise<{ by: Map<string, CredentialUse[]>; application: CredentialUse[] }> {
  const [destinations, sources] = await Promise.all([
    db.selectFrom('destination').select(['id', 'name', 'kind', 'settings']).where('parent_id', 'is', null).orderBy('name').execute(),
    db.selectFrom('source').select(['id', 'name', 'kind', 'settings']).orderBy('name').execute(),
  ])
  const by = new Map<string, CredentialUse[]>()
  const add = (ids: readonly (string | null | undefined)[], use: CredentialUse) => {
    for (const id of new Set(ids)) if (id) by.set(id, [...(by.get(id) ?? []), use])
  }
  for (const d of destinations) add(credentialsAt(d as Pick<DestinationDraft, 'kind' | 'settings'>), { kind: 'destination', id: d.id, name: d.name })
  for (const s of sources) add(credentialsOf(s as Pick<SourceDraft, 'kind' | 'settings'>), { kind: 'source', id: s.id, name: s.name })
  const application = sources.filter((s) => s.kind === 'opcua').map(({ id, name }) => ({ kind: 'source' as const, id, name }))
  return { by, application }
}

function rowOf(vault: Vault, c: NewCredential, id: string) {
  return {
    id,
    name: c.name,
    kind: c.kind,
    certificate: c.certificate,
    facts: c.facts ? JSON.stringify(c.facts) : null,
    user_name: c.user,
    secret: c.secret === null ? null : vault.seal(c.secret, place(id)),
    places: c.places ?? [],
    ends_at: c.endsAt ? new Date(c.endsAt) : null,
    recipe: c.recipe ? JSON.stringify(c.recipe) : null,
  }
}

/** Adds one within what else is done; a name that is taken is told beside it. */
export async function addIn(tx: Conn, vault: Vault, c: NewCredential, id: string): Promise<void> {
  try {
    await tx
      .insertInto('credential')
      .values(rowOf(vault, c, id))
      .execute()
  } catch (e) {
    throw explain(e, words)
  }
}

export async function addCredential(db: Db, vault: Vault, c: NewCredential, id = newId()): Promise<Credential> {
  return transacted(db, async (tx) => {
    await addIn(tx, vault, c, id)
    await announce(tx, 'credential')
    return (await listCredentials(tx)).find((x) => x.id === id)!
  })
}

/** Adds several, in their order: all, or none. */
export async function addCredentials(db: Db, vault: Vault, all: readonly NewCredential[]): Promise<Credential[]> {
  return transacted(db, async (tx) => {
    const ids: string[] = []
    for (const [i, c] of all.entries()) {
      const id = newId()
      ids.push(id)
      try {
        await tx
          .insertInto('credential')
          .values(rowOf(vault, c, id))
          .execute()
      } catch (e) {
        throw explain(e, { credential_name: { field: `keep.${i}.name`, message: `Another credential is called ${c.name}` } })
      }
    }
    await announce(tx, 'credential')
    const kept = await listCredentials(tx)
    return ids.map((id) => kept.find((c) => c.id === id)!)
  })
}

/** Says anew where a log-in may be sent. */
export async function bindCredential(db: Db, id: string, places: string[]): Promise<Credential> {
  return transacted(db, async (tx) => {
    const updated = await tx.updateTable('credential').set({ places }).where('id', '=', id).where('kind', 'in', LOGINS).executeTakeFirst()
    if (updated.numUpdatedRows === 0n) throw fail(404, 'credential.unknown', 'There is no such log-in', 'Refresh the list', 'credential')
    await announce(tx, 'credential')
    return (await listCredentials(tx)).find((c) => c.id === id)!
  })
}

/**
 * Refuses that a log-in is sent where nobody with the right to said that it may go: to the places that it is bound to, or where
 * it goes already. An administrator may send it anywhere; `binds`: and then it is bound to that place too.
 */
export async function demandPlaces(db: Conn, uses: readonly Use[], who: { anywhere: boolean; binds: boolean }): Promise<void> {
  if (uses.length === 0) return
  const rows = await db
    .selectFrom('credential')
    .select(['id', 'name', 'places'])
    .where('kind', 'in', LOGINS)
    .where(
      'id',
      'in',
      uses.map((u) => u.credentialId),
    )
    .execute()
  if (rows.length === 0) return
  const [destinations, sources] = await Promise.all([
    db.selectFrom('destination').select(['kind', 'settings']).where('parent_id', 'is', null).execute(),
    db.selectFrom('source').select(['kind', 'settings']).execute(),
  ])
  const now = [...destinations.flatMap((d) => destinationUses(d as DestinationDraft)), ...sources.flatMap((s) => sourceUses(s as SourceDraft))]
  for (const u of uses) {
    const row = rows.find((r) => r.id === u.credentialId)
    if (!row || row.places.includes(u.place) || now.some((n) => n.credentialId === u.credentialId && n.place === u.place)) continue
    if (!who.anywhere)
      throw new FailureError(
        {
          code: 'credential.place',
          message: `${row.name} is not meant for ${u.place}`,
          hint: 'An administrator can bind it to that place under Credentials; or choose another one',
          where: 'credential',
          fields: { [u.field]: `Not meant for ${u.place}: ask an administrator to bind it` },
        },
        403,
      )
    if (!who.binds) continue
    row.places = [...row.places, u.place]
    await db.updateTable('credential').set({ places: row.places }).where('id', '=', row.id).execute()
  }
}

export async function removeCredential(db: Db, id: string): Promise<void> {
  await transacted(db, async (tx) => {
    const one = (await listCredentials(tx)).find((c) => c.id === id)
    if (!one) throw fail(404, 'credential.unknown', 'There is no such credential', 'Refresh the list', 'credential')
    if (one.kind === 'application')
      throw fail(409, 'credential.own', `${one.name} is Embrik's own certificate for OPC UA`, 'It can be renewed, at an OPC UA source', 'credential')
    if (one.usedBy.length > 0) {
      const names = one.usedBy.map((use) => use.name).join(', ')
      throw fail(409, 'credential.used', `${one.name} is used by ${names}`, 'Choose another one there first', 'credential')
    }
    await tx.deleteFrom('credential').where('id', '=', id).execute()
    await announce(tx, 'credential')
  })
}

/** Puts a new certificate and key in the place of Embrik's own. */
export async function replaceApplication(db: Db, vault: Vault, next: { certificate: string; facts: CertificateFacts; key: string }): Promise<void> {
  await transacted(db, async (tx) => {
    const row = await tx.selectFrom('credential').select('id').where('kind', '=', 'application').executeTakeFirst()
    if (!row) throw fail(409, 'application.none', 'Embrik has no certificate of its own yet', 'The engine makes it at its first start', 'engine')
    await tx
      .updateTable('credential')
      .set({ certificate: next.certificate, facts: JSON.stringify(next.facts), secret: vault.seal(next.key, place(row.id)) })
      .where('id', '=', row.id)
      .execute()
    await announce(tx, 'credential')
  })
}

/** A credential with its secret opened: only for the engine, never to be sent on. */
export interface OpenCredential {
  kind: Credential['kind']
  certificate: string | null
  user: string | null
  secret: string | null
  /** Of a key from which tokens are made. */
  recipe?: TokenRecipe | null
}

export async function openCredential(db: Conn, vault: Vault, id: string): Promise<OpenCredential> {
  const row = await db.selectFrom('credential').selectAll().where('id', '=', id).executeTakeFirst()
  if (!row) throw fail(404, 'credential.unknown', 'A chosen credential no longer exists', 'Choose another one', 'credential')
  return {
    kind: row.kind,
    certificate: row.certificate,
    user: row.user_name,
    secret: row.secret ? vault.open(row.secret, place(id)) : null,
    recipe: row.recipe,
  }
}

/** The certificate under which Embrik itself appears to OPC UA servers; null before the first start. */
export async function applicationCredential(db: Conn, vault: Vault): Promise<{ certificate: string; key: string } | null> {
  const row = await db.selectFrom('credential').select('id').where('kind', '=', 'application').executeTakeFirst()
  if (!row) return null
  const c = await openCredential(db, vault, row.id)
  return c.certificate && c.secret ? { certificate: c.certificate, key: c.secret } : null
}
