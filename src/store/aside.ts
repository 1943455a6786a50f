import { sql } from 'kysely'
import { ASIDES_LISTED, type Aside } from '~/contract/aside'
import type { Assurance } from '~/core/delivery/envelope'
import type { Conn } from './database'

export interface NewAside {
  destinationId: string
  delivery: number
  seq: number
  topic: string
  assurance: Assurance
  properties: string
  payload: Uint8Array
  code: string
  message: string
  hint: string
}

/** So many are kept a destination, the newest. */
const KEPT = 1000
/** So many octets of a payload are kept. */
const OCTETS = 262_144

/** Keeps messages that went aside; those of destinations that are gone are passed over. */
export async function addAsides(db: Conn, asides: readonly NewAside[]): Promise<void> {
  for (const a of asides)
    await sql`insert into aside (destination_id, delivery, seq, topic, assurance, properties, payload, code, message, hint)
      select ${a.destinationId}::uuid, ${a.delivery}, ${a.seq}, ${a.topic.replaceAll('\0', '\uFFFD')}, ${a.assurance},
        ${a.properties.replaceAll('\0', '\uFFFD')}, ${Buffer.from(a.payload.subarray(0, OCTETS))}, ${a.code}, ${a.message.replaceAll('\0', '\uFFFD')}, ${a.hint}
      where exists (select 1 from destination where id = ${a.destinationId})`.execute(db)
  for (const id of new Set(asides.map((a) => a.destinationId)))
    await sql`delete from aside where destination_id = ${id}
      and id < (select id from aside where destination_id = ${id} order by id desc offset ${KEPT} limit 1)`.execute(db)
}

/** Of each so many octets are listed. */
const SHOWN = 4096

const lanesOf = (db: Conn, destinationId: string) =>
  db
    .selectFrom('destination')
    .select('id')
    .where((q) => q.or([q('id', '=', destinationId), q('parent_id', '=', destinationId)]))

/** The newest first; of a destination and the nodes that speak there. */
export async function listAsides(db: Conn, destinationId: string): Promise<Aside[]> {
  const rows = await db
    .selectFrom('aside as a')
    .leftJoin('delivery as d', 'd.number', 'a.delivery')
    .leftJoin('publication as p', 'p.id', 'd.publication_id')
    .select(['a.id', 'a.seq', 'a.at', 'a.topic', 'a.assurance', 'a.code', 'a.message', 'a.hint'])
    .select(sql<Buffer>`substr(a.payload, 1, ${SHOWN})`.as('payload'))
    .select(['p.id as publicationId', 'p.name as publication'])
    .where('a.destination_id', 'in', lanesOf(db, destinationId))
    .orderBy('a.id', 'desc')
    .limit(ASIDES_LISTED)
    .execute()
  return rows.map((r) => ({
    id: r.id,
    publicationId: r.publicationId,
    publication: r.publication,
    seq: r.seq,
    at: r.at.getTime(),
    topic: r.topic,
    assurance: r.assurance,
    payload: r.payload.toString('base64'),
    code: r.code,
    message: r.message,
    hint: r.hint,
  }))
}

export async function removeAsides(db: Conn, destinationId: string): Promise<void> {
  await db.deleteFrom('aside').where('destination_id', 'in', lanesOf(db, destinationId)).execute()
}
