import { sql } from 'kysely'
import type { Destination, Lane } from '~/contract/destination'
import { newId } from '~/contract/id'
import { kindOf } from '~/core/address/kinds'
import { demandOwnClientIds, laneSettings, speakerFor } from './client-id'
import type { Conn } from './database'
import { getDestination, listDestinations } from './destination'
import { AHEAD, laneName } from './lane-name'

/** Every connection there is: of each destination its own, one for each node that speaks there, and one for what goes ahead. */
export async function listLanes(db: Conn): Promise<Lane[]> {
  const destinations = await listDestinations(db)
  const byId = new Map<string, Destination>(destinations.map((d) => [d.id, d]))
  const nodes = await db.selectFrom('destination').select(['id', 'parent_id as parentId', 'node']).where('parent_id', 'is not', null).execute()
  const own = nodes.flatMap(({ id, parentId, node }): Lane[] => {
    const of = byId.get(parentId!)
    if (!of) return []
    const ahead = node === AHEAD
    const its = { id, parentId: of.id, node: ahead ? '' : node, ahead, name: laneName(of.name, node) }
    // Only over MQTT does somebody speak by itself.
    if (of.kind === 'mqtt') return [{ ...of, ...its, settings: laneSettings(of.settings, node) }]
    return ahead ? [{ ...of, ...its }] : []
  })
  return [...destinations.map((d): Lane => ({ ...d, parentId: null, node: '', ahead: false })), ...own]
}

/** The lane on which something goes to a destination: its own, or that of a node or of what goes ahead, which is made when it is new. */
export async function laneFor(db: Conn, destinationId: string, { node, ahead }: { node: string; ahead: boolean }): Promise<string> {
  // Who speaks by itself has a connection of its own anyway.
  return ownLane(db, destinationId, node === '' && ahead ? AHEAD : node)
}

async function ownLane(db: Conn, destinationId: string, node: string): Promise<string> {
  if (node === '') return destinationId
  const there = await db.selectFrom('destination').select('id').where('parent_id', '=', destinationId).where('node', '=', node).executeTakeFirst()
  if (there) return there.id
  const to = await getDestination(db, destinationId)
  if (to.kind !== 'mqtt' && !(node === AHEAD && kindOf(to).together === null)) return destinationId
  const { name } = to
  const id = newId()
  if (to.kind === 'mqtt') await demandOwnClientIds(db, speakerFor(id, { kind: to.kind, settings: laneSettings(to.settings, node) }))
  // Numbers of births go on from those of the destination: the death of a node that spoke over its connection fits no birth here.
  await sql`insert into destination (id, name, kind, settings, enabled, parent_id, node, birth_death)
    select ${id}, ${`${laneName(name, node)} ${id}`}, kind, '{}', true, id, ${node}, birth_death from destination where id = ${destinationId}`.execute(
    db,
  )
  return id
}

/** Lets go of the lanes of which no publication speaks, or ever spoke and still is. */
export async function removeIdleLanes(db: Conn): Promise<void> {
  await sql`delete from destination t where t.parent_id is not null
    and not exists (select 1 from delivery d where d.destination_id = t.id)`.execute(db)
}
