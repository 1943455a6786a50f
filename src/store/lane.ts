import { sql } from 'kysely'
import type { Destination, Lane } from '~/contract/destination'
import { newId } from '~/contract/id'
import { demandOwnClientIds, laneSettings, speakerFor } from './client-id'
import type { Conn } from './database'
import { getDestination, listDestinations } from './destination'

/** Every connection there is: of each destination its own, and one for each node that speaks there. */
export async function listLanes(db: Conn): Promise<Lane[]> {
  const destinations = await listDestinations(db)
  const byId = new Map<string, Destination>(destinations.map((d) => [d.id, d]))
  const nodes = await db.selectFrom('destination').select(['id', 'parent_id as parentId', 'node']).where('parent_id', 'is not', null).execute()
  const own = nodes.flatMap(({ id, parentId, node }): Lane[] => {
    const of = byId.get(parentId!)
    // Only over MQTT does somebody speak by itself.
    return of?.kind === 'mqtt' ? [{ ...of, id, parentId: of.id, node, name: laneName(of.name, node), settings: laneSettings(of.settings, node) }] : []
  })
  return [...destinations.map((d): Lane => ({ ...d, parentId: null, node: '' })), ...own]
}

const laneName = (destination: string, node: string) => `${destination}, node ${node}`

/** The lane on which something goes to a destination: its own, or that of a node, which is made when it is new. */
export async function laneFor(db: Conn, destinationId: string, node: string): Promise<string> {
  if (node === '') return destinationId
  const there = await db.selectFrom('destination').select('id').where('parent_id', '=', destinationId).where('node', '=', node).executeTakeFirst()
  if (there) return there.id
  const to = await getDestination(db, destinationId)
  if (to.kind !== 'mqtt') return destinationId
  const { name, kind, settings } = to
  const id = newId()
  await demandOwnClientIds(db, speakerFor(id, { kind, settings: laneSettings(settings, node) }))
  // Numbers of births go on from those of the destination: the death of a node that spoke over its connection fits no birth here.
  await sql`insert into destination (id, name, kind, settings, enabled, parent_id, node, birth_death)
    select ${id}, ${`${laneName(name, node)} ${id}`}, kind, '{}', true, id, ${node}, birth_death from destination where id = ${destinationId}`.execute(
    db,
  )
  return id
}

/** Lets go of the lanes of nodes of which no publication speaks, or ever spoke and still is. */
export async function removeIdleLanes(db: Conn): Promise<void> {
  await sql`delete from destination t where t.parent_id is not null
    and not exists (select 1 from delivery d where d.destination_id = t.id)`.execute(db)
}
