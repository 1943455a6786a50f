import { sql } from 'kysely'
import { ASIDES_LISTED, type Aside, type AsideWhole } from '~/contract/aside'
import { fail } from '~/contract/failure'
import type { Assurance } from '~/core/delivery/envelope'
import { unpackProperties } from '~/core/delivery/properties'
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
    await sql`insert into aside (destination_id, delivery, seq, topic, assurance, properties, payload, octets, code, message, hint)
      select ${a.destinationId}::uuid, ${a.delivery}, ${a.seq}, ${a.topic.replaceAll('\0', '\uFFFD')}, ${a.assurance},
        ${a.properties.replaceAll('\0', '\uFFFD')}, ${Buffer.from(a.payload.subarray(0, OCTETS))}, ${a.payload.length}, ${a.code}, ${a.message.replaceAll('\0', '\uFFFD')}, ${a.hint}
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

const listed = (db: Conn) =>
  db
    .selectFrom('aside as a')
    .leftJoin('delivery as d', 'd.number', 'a.delivery')
    .leftJoin('publication as p', 'p.id', 'd.publication_id')
    .select([
      'a.id',
      'a.seq',
      'a.at',
      'a.topic',
      'a.assurance',
      'a.code',
      'a.message',
      'a.hint',
      'a.octets',
      'a.again_seq',
      'a.again_at',
      'a.again_by',
    ])
    .select(['p.id as publicationId', 'p.name as publication'])

type Row = Awaited<ReturnType<ReturnType<typeof listed>['execute']>>[number]

/** The newest first; of a destination and the nodes that speak there. */
export async function listAsides(db: Conn, destinationId: string): Promise<Aside[]> {
  const rows = await listed(db)
    .select(sql<Buffer>`substr(a.payload, 1, ${SHOWN})`.as('payload'))
    .where('a.destination_id', 'in', lanesOf(db, destinationId))
    .orderBy('a.id', 'desc')
    .limit(ASIDES_LISTED)
    .execute()
  return rows.map(toAside)
}

/** The latest message of a delivery that went aside since then (epoch ms), and how many did; null: none. */
export async function lastAside(
  db: Conn,
  delivery: number,
  since: number,
): Promise<{ at: number; count: number; message: string; hint: string } | null> {
  const rows = await db
    .selectFrom('aside')
    .select(['at', 'message', 'hint', sql<number>`count(*) over ()`.as('count')])
    .where('delivery', '=', delivery)
    .where('at', '>', new Date(since))
    .where('again_seq', 'is', null)
    .orderBy('id', 'desc')
    .limit(1)
    .execute()
  const [row] = rows
  return row ? { at: row.at.getTime(), count: Number(row.count), message: row.message, hint: row.hint } : null
}

/** One with all octets that are kept; with what an engine needs to send it again. */
export async function getAside(db: Conn, id: number): Promise<{ aside: AsideWhole; delivery: number; properties: string }> {
  const r = await listed(db).select(['a.payload', 'a.delivery', 'a.properties']).where('a.id', '=', id).executeTakeFirst()
  if (!r) throw fail(404, 'aside.unknown', 'There is no such message', 'Somebody forgot it, or newer ones took its place', 'destination')
  const { contentType, key, headers } = unpackProperties(r.properties)
  return { aside: { ...toAside(r), kept: r.payload.length, contentType, key, headers }, delivery: r.delivery, properties: r.properties }
}

/** It was sent again, as the message of this number. */
export async function sentAgain(db: Conn, id: number, seq: number, by: string): Promise<void> {
  await db.updateTable('aside').set({ again_seq: seq, again_at: new Date(), again_by: by }).where('id', '=', id).execute()
}

function toAside(r: Row & { payload: Buffer }): Aside {
  const again = r.again_seq === null || r.again_at === null ? null : { seq: r.again_seq, at: r.again_at.getTime(), by: r.again_by ?? '' }
  return {
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
    octets: r.octets,
    again,
  }
}

export async function removeAsides(db: Conn, destinationId: string): Promise<void> {
  await db.deleteFrom('aside').where('destination_id', 'in', lanesOf(db, destinationId)).execute()
}
