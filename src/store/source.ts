import { fail } from '~/contract/failure'
import { newId } from '~/contract/id'
import type { Source, SourceDraft } from '~/contract/source'
import { announce, type Conn, type Db, explain } from './database'
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

const toSource = (r: Row): Source => ({
  id: r.id,
  name: r.name,
  kind: r.kind,
  settings: r.settings,
  enabled: r.enabled,
  version: r.version,
  hasPassword: r.secret !== null,
  tagCount: r.tags ?? 0,
})

export async function listSources(db: Conn): Promise<Source[]> {
  return (await rows(db).orderBy('s.name').execute()).map(toSource)
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

export async function addSource(db: Db, vault: Vault, draft: SourceDraft, id = newId()): Promise<Source> {
  try {
    return await db.transaction().execute(async (tx) => {
      await tx
        .insertInto('source')
        .values({
          id,
          name: draft.name,
          kind: draft.kind,
          settings: JSON.stringify(draft.settings),
          enabled: draft.enabled,
          secret: draft.password ? vault.seal(draft.password, place(id)) : null,
        })
        .execute()
      await announce(tx, 'source')
      return getSource(tx, id)
    })
  } catch (e) {
    throw explain(e, words)
  }
}

export async function changeSource(db: Db, vault: Vault, id: string, draft: SourceDraft): Promise<Source> {
  try {
    return await db.transaction().execute(async (tx) => {
      await getSource(tx, id)
      await tx
        .updateTable('source')
        .set((q) => ({
          name: draft.name,
          settings: JSON.stringify(draft.settings),
          enabled: draft.enabled,
          version: q('version', '+', 1),
          ...(draft.settings.login === 'anonymous' ? { secret: null } : draft.password ? { secret: vault.seal(draft.password, place(id)) } : {}),
        }))
        .where('id', '=', id)
        .execute()
      await announce(tx, 'source')
      return getSource(tx, id)
    })
  } catch (e) {
    throw explain(e, words)
  }
}

export async function removeSource(db: Db, id: string): Promise<void> {
  try {
    await db.transaction().execute(async (tx) => {
      await getSource(tx, id)
      await tx.deleteFrom('source').where('id', '=', id).execute()
      await announce(tx, 'source')
    })
  } catch (e) {
    throw explain(e, words)
  }
}
