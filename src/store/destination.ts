import type { Destination, DestinationDraft } from '~/contract/destination'
import { fail } from '~/contract/failure'
import { newId } from '~/contract/id'
import { announce, type Conn, type Db, demandBegun, explain } from './database'

const words = {
  destination_name: { field: 'name', message: 'Another destination has this name' },
  publication_destination: { field: 'id', message: 'Publications still go there' },
}

export async function listDestinations(db: Conn): Promise<Destination[]> {
  const rows = await db
    .selectFrom('destination as d')
    .select((q) => [
      'd.id',
      'd.name',
      'd.kind',
      'd.settings',
      'd.enabled',
      'd.version',
      q
        .selectFrom('publication')
        .whereRef('destination_id', '=', 'd.id')
        .select((f) => f.fn.countAll<number>().as('n'))
        .as('n'),
    ])
    .orderBy('d.name')
    .execute()
  return rows.map(({ n, ...r }) => ({ ...r, publicationCount: n ?? 0 }))
}

export async function getDestination(db: Conn, id: string): Promise<Destination> {
  const found = (await listDestinations(db)).find((d) => d.id === id)
  if (!found) throw fail(404, 'destination.unknown', 'There is no such destination', 'Refresh the list', 'destination')
  return found
}

export async function addDestination(db: Db, draft: DestinationDraft, id = newId()): Promise<Destination> {
  try {
    return await db.transaction().execute(async (tx) => {
      await tx
        .insertInto('destination')
        .values({ id, name: draft.name, kind: draft.kind, settings: JSON.stringify(draft.settings), enabled: draft.enabled })
        .execute()
      await announce(tx, 'destination')
      return getDestination(tx, id)
    })
  } catch (e) {
    throw explain(e, words)
  }
}

export async function changeDestination(db: Db, id: string, draft: DestinationDraft, begun?: number): Promise<Destination> {
  try {
    return await db.transaction().execute(async (tx) => {
      const now = await getDestination(tx, id)
      const updated = await tx
        .updateTable('destination')
        .set((q) => ({
          name: draft.name,
          settings: JSON.stringify(draft.settings),
          enabled: draft.enabled,
          version: q('version', '+', 1),
        }))
        .where('id', '=', id)
        .where('version', '=', begun ?? now.version)
        .executeTakeFirst()
      demandBegun(updated, now.name, 'destination')
      await announce(tx, 'destination')
      return getDestination(tx, id)
    })
  } catch (e) {
    throw explain(e, words)
  }
}

export async function removeDestination(db: Db, id: string): Promise<void> {
  try {
    await db.transaction().execute(async (tx) => {
      await getDestination(tx, id)
      await tx.deleteFrom('destination').where('id', '=', id).execute()
      await announce(tx, 'destination')
    })
  } catch (e) {
    throw explain(e, words)
  }
}
