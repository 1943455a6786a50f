import { sql } from 'kysely'
import { fail } from '~/contract/failure'
import type { Plan, Publication, PublicationDraft } from '~/contract/publication'
import { kindOf } from '~/core/address/kinds'
import type { Conn } from './database'

function rows(db: Conn) {
  return db
    .selectFrom('publication')
    .select(['id', 'name', 'draft', 'version', 'state', 'live_version as liveVersion', 'live_draft_version as liveDraft'])
}
type Rows = ReturnType<typeof rows>
type Row = Awaited<ReturnType<Rows['execute']>>[number]

const toPublication = ({ draft, liveDraft, ...r }: Row): Publication => ({
  ...draft,
  ...r,
  editedSinceLive: r.liveVersion !== null && liveDraft !== r.version,
})

export const listPublications = (db: Conn): Promise<Publication[]> => publicationsWhere(db, (q) => q)

/** Those that are asked for, by name. */
export async function publicationsWhere(db: Conn, which: (query: Rows) => Rows): Promise<Publication[]> {
  return (await which(rows(db)).orderBy('name').execute()).map(toPublication)
}

export async function getPublication(db: Conn, id: string): Promise<Publication> {
  const row = await rows(db).where('id', '=', id).executeTakeFirst()
  if (!row) throw fail(404, 'publication.unknown', 'There is no such publication', 'Refresh the list', 'publication')
  return toPublication(row)
}

/** A frozen plan, or a failure that says that there is none. */
export async function frozen(db: Conn, publicationId: string, number: number): Promise<Plan> {
  const plan = await planOf(db, publicationId, number)
  if (!plan) throw fail(404, 'version.unknown', `There is no version ${number}`, 'Refresh the list', 'publication')
  return plan
}

/** The same; null: there is none of that number. */
export async function planOf(db: Conn, publicationId: string, number: number): Promise<Plan | null> {
  const row = await db
    .selectFrom('publication_version')
    .select('plan')
    .where('publication_id', '=', publicationId)
    .where('number', '=', number)
    .executeTakeFirst()
  return row?.plan ?? null
}

/**
 * Plans that are live at the destination of a draft and may write to the same places as it, and those with the same publisher id.
 * Of the others only what is read back is looked at.
 */
export async function rivalPlans(
  db: Conn,
  { destinationId, address }: Pick<PublicationDraft, 'destinationId' | 'address'>,
  reads: readonly string[],
  publisher: string | null = null,
): Promise<Plan[]> {
  const rows = await sql<{ publicationId: string; number: number; reads: string[]; publisher: string | null }>`
    select p.id as "publicationId", v.number, v.reads, v.publisher from publication p
    join publication_version v on v.publication_id = p.id and v.number = p.live_version
    where p.state = 'live' and v.destination_id = ${destinationId} and v.reads is not null`.execute(db)
  const { overlap } = kindOf(address)
  const meet = (theirs: readonly string[]) => theirs.some((a) => reads.some((b) => overlap(a, b)))
  return plansOf(
    db,
    rows.rows.filter((r) => meet(r.reads) || (publisher !== null && r.publisher === publisher)),
  )
}

/** Which version of each publication is live. */
export async function livePlanNumbers(db: Conn): Promise<{ publicationId: string; number: number }[]> {
  const rows = await db
    .selectFrom('publication')
    .select(['id as publicationId', 'live_version as number'])
    .where('state', '=', 'live')
    .where('live_version', 'is not', null)
    .execute()
  return rows.map((r) => ({ publicationId: r.publicationId, number: r.number! }))
}

/** Frozen plans, by publication and number. */
export async function plansOf(db: Conn, wanted: readonly { publicationId: string; number: number }[]): Promise<Plan[]> {
  if (wanted.length === 0) return []
  const rows = await sql<{ plan: Plan }>`
    select v.plan from jsonb_to_recordset(${JSON.stringify(wanted)}::jsonb) as w("publicationId" uuid, number int)
    join publication_version v on v.publication_id = w."publicationId" and v.number = w.number`.execute(db)
  return rows.rows.map((r) => r.plan)
}

export interface DeliveryRow {
  number: number
  publicationId: string
  publication: string
  destinationId: string
  /** With the node, where one speaks there by itself; or that it goes ahead. */
  destination: string
  /** The connection on which it goes out. */
  lane: string
}

export async function listDeliveries(db: Conn): Promise<DeliveryRow[]> {
  const rows = await sql<DeliveryRow>`
    select d.number, p.id as "publicationId", p.name as publication, t.id as "destinationId", l.id as lane,
      case l.node when '' then t.name when 'ahead' then t.name || ', ahead' else t.name || ', node ' || l.node end as destination
    from delivery d join publication p on p.id = d.publication_id
    join destination l on l.id = d.destination_id join destination t on t.id = coalesce(l.parent_id, l.id)
    order by p.name, t.name, l.node`.execute(db)
  return rows.rows
}

/** What witnesses have to read to see all messages of the last versions, live or paused; by lane. */
export async function allReads(db: Conn): Promise<Map<string, string[]>> {
  const rows = await sql<{ lane: string; reads: string }>`
    select distinct coalesce(d.destination_id::text, v.destination_id) as lane, r as reads from publication p
    join publication_version v on v.publication_id = p.id and v.number > p.live_version - 3
    left join delivery d on d.number = v.delivery
    cross join lateral jsonb_array_elements_text(v.reads) r
    where coalesce(d.destination_id::text, v.destination_id) is not null`.execute(db)
  const out = new Map<string, string[]>()
  for (const { lane, reads } of rows.rows) {
    const list = out.get(lane)
    if (list) list.push(reads)
    else out.set(lane, [reads])
  }
  return out
}

/** That of a destination and of the nodes that speak there. */
export async function readsAt(db: Conn, destinationId: string): Promise<string[]> {
  const all = await allReads(db)
  const nodes = await db.selectFrom('destination').select('id').where('parent_id', '=', destinationId).execute()
  return [destinationId, ...nodes.map((n) => n.id)].flatMap((lane) => all.get(lane) ?? [])
}
