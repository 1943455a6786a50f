import { sql } from 'kysely'
import type { Destination, DestinationDraft } from '~/contract/destination'
import { FailureError, fail } from '~/contract/failure'
import { newId } from '~/contract/id'
import { clientIdsOf, demandOwnClientIds, type Speaker } from './client-id'
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
    .where('d.parent_id', 'is', null)
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
      await demandOwnClientIds(tx, speakerOf(id, draft))
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
      await demandOwnClientIds(tx, speakerOf(id, draft))
      if (draft.settings.protocol !== '5') await demandNoHeadersNeeded(tx, id)
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

const speakerOf = (id: string, { settings }: DestinationDraft): Speaker => ({
  kind: 'destination',
  id,
  host: settings.host,
  port: settings.port,
  clientIds: clientIdsOf(settings),
})

/** MQTT 3.1.1 has no headers: what is live and puts its attributes there would go out without them. */
async function demandNoHeadersNeeded(db: Conn, id: string): Promise<void> {
  const live = await sql<{ name: string }>`
    select p.name from publication p join publication_version v on v.publication_id = p.id and v.number = p.live_version
    where p.state = 'live' and v.destination_id = ${id} and v.plan->'shape'->>'kind' = 'cloudevents' and v.plan->'shape'->>'mode' = 'binary'
    order by p.name limit 20`.execute(db)
  if (live.rows.length === 0) return
  const names = live.rows.map((r) => r.name).join(', ')
  const field = `${names}: CloudEvents in binary mode have their attributes in headers, which MQTT 3.1.1 has not`
  throw new FailureError(
    {
      code: 'destination.headers',
      message: field,
      hint: 'Stay with MQTT 5, or let them go live in structured mode first; nothing was saved',
      where: 'destination',
      fields: { 'settings.protocol': field },
    },
    422,
  )
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
