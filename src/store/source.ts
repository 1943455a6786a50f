import { sql } from 'kysely'
import { FailureError, fail } from '~/contract/failure'
import { newId } from '~/contract/id'
import { credentialsOf, keepsSecret, type Source, type SourceDraft, type SourceUse } from '~/contract/source'
import { sourceReach } from '~/core/credential/reach'
import { byName } from '~/core/equipment/hierarchy'
import { pickedBy } from './bare-tags'
import { clientIdsOf, demandOwnClientIds } from './client-id'
import { announce, type Conn, type Db, demandBegun, explain } from './database'
import { filledBy } from './equipment'
import { sendsRowsOf } from './row'
import { transacted } from './transacted'
import type { Vault } from './vault'

const place = (id: string) => `source:${id}`
const words = {
  source_name: { field: 'name', message: 'Another source has this name' },
  tag_source: { field: 'id', message: 'Tags are still read from this source' },
}

function rows(db: Conn) {
  return db.selectFrom('source as s').select((q) => [
    's.id',
    's.name',
    's.kind',
    's.settings',
    's.enabled',
    's.version',
    's.secret',
    q
      .selectFrom('tag')
      .whereRef('tag.source_id', '=', 's.id')
      .select((c) => c.fn.countAll<number>().as('n'))
      .as('tags'),
  ])
}

type Row = Awaited<ReturnType<ReturnType<typeof rows>['execute']>>[number]

const toSource = (r: Row): Source =>
  ({
    id: r.id,
    name: r.name,
    kind: r.kind,
    settings: r.settings,
    enabled: r.enabled,
    version: r.version,
    hasPassword: r.secret !== null,
    tagCount: r.tags ?? 0,
  }) as Source

export async function listSources(db: Conn): Promise<Source[]> {
  return (await rows(db).orderBy('s.name').execute()).map(toSource)
}

/** Ids of sources that compute their values. */
export async function listMadeUpSources(db: Conn): Promise<Set<string>> {
  return new Set((await db.selectFrom('source').select('id').where('kind', '=', 'simulated').execute()).map((s) => s.id))
}

export async function getSource(db: Conn, id: string): Promise<Source> {
  const row = await rows(db).where('s.id', '=', id).executeTakeFirst()
  if (!row) throw fail(404, 'source.unknown', 'There is no such source', 'It may have been removed: refresh the list', 'source')
  return toSource(row)
}

/** The stored password, for the engine alone. */
export async function sourcePassword(db: Conn, vault: Vault, id: string): Promise<string | null> {
  const row = await db.selectFrom('source').select('secret').where('id', '=', id).executeTakeFirst()
  return row?.secret ? vault.open(row.secret, place(id)) : null
}

/** A source of topics has a client id of its own at its broker. */
async function demandOwnName(db: Conn, id: string, draft: SourceDraft): Promise<void> {
  if (draft.kind !== 'mqtt') return
  const { host, port } = draft.settings
  await demandOwnClientIds(db, { kind: 'source', id, host, port, clientIds: clientIdsOf(draft.settings) })
}

export async function addSource(db: Db, vault: Vault, draft: SourceDraft, id = newId()): Promise<Source> {
  try {
    return await transacted(db, async (tx) => {
      await demandCredentials(tx, draft)
      await demandOwnName(tx, id, draft)
      await tx
        .insertInto('source')
        .values({
          id,
          name: draft.name,
          kind: draft.kind,
          settings: JSON.stringify(draft.settings),
          enabled: draft.enabled,
          secret: draft.password && keepsSecret(draft) ? vault.seal(draft.password, place(id)) : null,
        })
        .execute()
      await announce(tx, 'source')
      return getSource(tx, id)
    })
  } catch (e) {
    throw explain(e, words)
  }
}

/** A kept password is not sent elsewhere, or less protected, than where it was meant for: it is typed again then. */
export function demandTypedAgain(now: Source, draft: Pick<SourceDraft, 'kind' | 'settings'> & { password?: string | undefined }): void {
  if (!now.hasPassword || draft.password || !keepsSecret(draft)) return
  const [before, after] = [sourceReach(now), sourceReach(draft)]
  if (before === after) return
  throw new FailureError(
    {
      code: 'source.password-again',
      message: `The kept password was meant for ${before}, not for ${after}`,
      hint: 'Type it again if it is to go there',
      where: 'source',
      fields: { password: `Meant for ${before}: type it again for ${after}` },
    },
    422,
  )
}

/** `trusted`: the change comes from this program itself, which may take a password along. */
export async function changeSource(db: Db, vault: Vault, id: string, draft: SourceDraft, begun?: number, trusted = false): Promise<Source> {
  try {
    return await transacted(db, async (tx) => {
      const now = await getSource(tx, id)
      if (now.kind !== draft.kind)
        throw fail(422, 'source.kind', 'The kind of a source does not change', 'Add a source of the other kind, and make its tags there', 'source')
      await demandCredentials(tx, draft)
      await demandOwnName(tx, id, draft)
      if (!trusted) demandTypedAgain(now, draft)
      const updated = await tx
        .updateTable('source')
        .set((q) => ({
          name: draft.name,
          settings: JSON.stringify(draft.settings),
          enabled: draft.enabled,
          version: q('version', '+', 1),
          ...(!keepsSecret(draft) ? { secret: null } : draft.password ? { secret: vault.seal(draft.password, place(id)) } : {}),
        }))
        .where('id', '=', id)
        .where('version', '=', begun ?? now.version)
        .executeTakeFirst()
      demandBegun(updated, now.name, 'source')
      await announce(tx, 'source')
      return getSource(tx, id)
    })
  } catch (e) {
    throw explain(e, words)
  }
}

/** Switches one source on or off; it starts or stops by itself, the others don't notice. */
export async function switchSource(db: Db, id: string, enabled: boolean): Promise<Source> {
  return transacted(db, async (tx) => {
    const now = await getSource(tx, id)
    if (now.enabled === enabled) return now
    await tx
      .updateTable('source')
      .set((q) => ({ enabled, version: q('version', '+', 1) }))
      .where('id', '=', id)
      .execute()
    await announce(tx, 'source')
    return getSource(tx, id)
  })
}

/** Refuses a reference to a credential that isn't there. */
async function demandCredentials(db: Conn, draft: SourceDraft): Promise<void> {
  const ids = credentialsOf(draft)
  if (ids.length === 0) return
  const found = await db.selectFrom('credential').select('id').where('id', 'in', ids).execute()
  if (found.length < new Set(ids).size)
    throw fail(422, 'credential.unknown', 'A chosen credential no longer exists', 'Choose another one', 'credential')
}

/** What is read from a source, and what would notice if it went: tags, and the equipment and publications that use them. */
export async function sourceUse(db: Conn, id: string): Promise<SourceUse> {
  await getSource(db, id)
  const tags = (await db.selectFrom('tag').select('id').where('source_id', '=', id).execute()).map((t) => t.id)
  const filled = [...(await filledBy(db, 'tagId', tags)), ...(await filledBy(db, 'sourceId', [id]))]
  const equipment = new Map(filled.map((f) => [f.id, f.name]))
  const { rows: publications } = await sql<{ name: string; live: boolean }>`
    select p.name, p.state = 'live' as live from publication p where p.draft->'equipmentIds' ?| ${[...equipment.keys()]}::text[]
      or exists (select 1 from tag t where t.source_id = ${id} and ${pickedBy}) or ${sendsRowsOf(id)} order by p.name`.execute(db)
  return { tags: tags.length, equipment: [...equipment.values()].sort(byName), publications }
}

export async function removeSource(db: Db, id: string): Promise<void> {
  try {
    await transacted(db, async (tx) => {
      await getSource(tx, id)
      await tx.deleteFrom('source').where('id', '=', id).execute()
      await announce(tx, 'source')
    })
  } catch (e) {
    throw explain(e, words)
  }
}
