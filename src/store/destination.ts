import { sql } from 'kysely'
import type { Destination, DestinationDraft } from '~/contract/destination'
import { FailureError, fail } from '~/contract/failure'
import { newId } from '~/contract/id'
import type { Plan } from '~/contract/publication'
import { kindOf } from '~/core/address/kinds'
import { some } from '~/core/address/some'
import { beyond } from '~/core/publication/beyond'
import { demandOwnClientIds, speakerFor } from './client-id'
import { announce, type Conn, type Db, demandBegun, explain } from './database'
import { transacted } from './transacted'

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
  return rows.map(({ n, ...r }) => ({ ...r, publicationCount: n ?? 0 }) as Destination)
}

export async function getDestination(db: Conn, id: string): Promise<Destination> {
  const found = (await listDestinations(db)).find((d) => d.id === id)
  if (!found) throw fail(404, 'destination.unknown', 'There is no such destination', 'Refresh the list', 'destination')
  return found
}

export async function addDestination(db: Db, draft: DestinationDraft, id = newId()): Promise<Destination> {
  try {
    return await transacted(db, async (tx) => {
      await demandOwnClientIds(tx, speakerFor(id, draft))
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
    return await transacted(db, async (tx) => {
      const now = await getDestination(tx, id)
      demandSameKind(now, draft)
      await demandOwnClientIds(tx, speakerFor(id, draft))
      await demandNothingBeyond(tx, id, draft)
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

/** What goes to it is addressed in the words of its kind, and what waits for it too. */
function demandSameKind(now: Destination, { kind }: DestinationDraft): void {
  if (kind === now.kind) return
  const message = `${now.name} stays what it is: addresses of its publications, and what waits for it, are of its kind`
  throw new FailureError({ code: 'destination.kind', message, hint: 'Add another destination', where: 'destination', fields: { kind: message } }, 422)
}

/** What is live there must still be possible with the new settings. */
async function demandNothingBeyond(db: Conn, id: string, draft: DestinationDraft): Promise<void> {
  const narrows = kindOf(draft).narrows(draft.settings)
  if (narrows === null) return
  const live = await sql<{ name: string; shape: Plan['shape']; address: Plan['address'] }>`
    select p.name, v.plan->'shape' as shape, v.plan->'address' as address
    from publication p join publication_version v on v.publication_id = p.id and v.number = p.live_version
    where p.state = 'live' and v.destination_id = ${id} order by p.name`.execute(db)
  const stopped = live.rows.flatMap((r) => {
    const stop = beyond(r, draft).find((f) => f.severity === 'stops')
    return stop ? [{ name: r.name, stop }] : []
  })
  const [first] = stopped
  if (!first) return
  const message = `${some(stopped.map((r) => r.name))}: ${first.stop.message}`
  throw new FailureError(
    {
      code: 'destination.beyond',
      message,
      hint: `${first.stop.hint}; nothing was saved`,
      where: 'destination',
      fields: { [`settings.${narrows}`]: message },
    },
    422,
  )
}

export async function removeDestination(db: Db, id: string): Promise<void> {
  try {
    await transacted(db, async (tx) => {
      await getDestination(tx, id)
      await tx.deleteFrom('destination').where('id', '=', id).execute()
      await announce(tx, 'destination')
    })
  } catch (e) {
    throw explain(e, words)
  }
}
