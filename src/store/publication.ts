import { sql } from 'kysely'
import { FailureError, fail } from '~/contract/failure'
import { newId } from '~/contract/id'
import type { Accepted } from '~/contract/preflight'
import type { Plan, Publication, PublicationDraft } from '~/contract/publication'
import { kindOf } from '~/core/address/kinds'
import { beyond } from '~/core/publication/beyond'
import { leftBehind } from '~/core/publication/left-behind'
import { nodeOf } from '~/core/shape/registry'
import { announce, type Conn, type Db, demandBegun, explain } from './database'
import { getDestination } from './destination'
import { laneFor, removeIdleLanes } from './lane'
import { sendsAgain, takeBackLater } from './taken-back'
import { transacted } from './transacted'

const words = {
  publication_name: { field: 'name', message: 'Another publication has this name' },
  publication_destination: { field: 'destinationId', message: 'There is no such destination' },
}

function rows(db: Conn) {
  return db
    .selectFrom('publication')
    .select(['id', 'name', 'draft', 'version', 'state', 'live_version as liveVersion', 'live_draft_version as liveDraft'])
}
type Row = Awaited<ReturnType<ReturnType<typeof rows>['execute']>>[number]

const toPublication = ({ draft, liveDraft, ...r }: Row): Publication => ({
  ...draft,
  ...r,
  editedSinceLive: r.liveVersion !== null && liveDraft !== r.version,
})

export async function listPublications(db: Conn): Promise<Publication[]> {
  return (await rows(db).orderBy('name').execute()).map(toPublication)
}

export async function getPublication(db: Conn, id: string): Promise<Publication> {
  const row = await rows(db).where('id', '=', id).executeTakeFirst()
  if (!row) throw fail(404, 'publication.unknown', 'There is no such publication', 'Refresh the list', 'publication')
  return toPublication(row)
}

/** An address is in the words of its destination's kind; of a destination that is not there nothing is known. */
async function demandOfKind(db: Conn, { destinationId, address }: PublicationDraft): Promise<void> {
  const to = await db.selectFrom('destination').select(['name', 'kind']).where('id', '=', destinationId).executeTakeFirst()
  if (!to || to.kind === address.kind) return
  const message = `The address is none for ${to.name}: it is one for another kind of destination`
  throw new FailureError(
    {
      code: 'publication.kind',
      message,
      hint: 'Choose the destination again: the address follows it',
      where: 'publication',
      fields: { 'address.kind': message },
    },
    422,
  )
}

export async function addPublication(db: Db, draft: PublicationDraft, id = newId()): Promise<Publication> {
  try {
    return await transacted(db, async (tx) => {
      await demandOfKind(tx, draft)
      await tx
        .insertInto('publication')
        .values({
          id,
          name: draft.name,
          draft: JSON.stringify(draft),
          destination_id: draft.destinationId,
          state: 'draft',
          live_version: null,
          live_draft_version: null,
        })
        .execute()
      await announce(tx, 'publication')
      return getPublication(tx, id)
    })
  } catch (e) {
    throw explain(e, words)
  }
}

/** Changes what would go live next; what is live stays as it was frozen. */
export async function changePublication(db: Db, id: string, draft: PublicationDraft, begun?: number): Promise<Publication> {
  try {
    return await transacted(db, async (tx) => {
      const now = await getPublication(tx, id)
      await demandOfKind(tx, draft)
      const updated = await tx
        .updateTable('publication')
        .set((q) => ({
          name: draft.name,
          draft: JSON.stringify(draft),
          destination_id: draft.destinationId,
          version: q('version', '+', 1),
        }))
        .where('id', '=', id)
        .where('version', '=', begun ?? now.version)
        .executeTakeFirst()
      demandBegun(updated, now.name, 'publication')
      await announce(tx, 'publication')
      return getPublication(tx, id)
    })
  } catch (e) {
    throw explain(e, words)
  }
}

/** What is said at a go-live. */
export interface GoLive {
  /** What the destination keeps of the version before is taken back. */
  takeBack: boolean
  note: string
  /** Warnings that are lived with. */
  accepted: readonly Accepted[]
}

/** Freezes a plan as the next version and makes it live, in one transaction. */
export async function goLive(
  db: Db,
  id: string,
  by: string,
  freeze: (publication: Publication, tx: Conn) => Promise<Omit<Plan, 'number' | 'delivery'>>,
  how: Partial<GoLive> = {},
): Promise<Publication> {
  return transacted(db, async (tx) => {
    await tx.selectFrom('publication').select('id').where('id', '=', id).forUpdate().execute()
    const publication = await getPublication(tx, id)
    const body = await freeze(publication, tx)
    // By a rule it is for others than when it was written, perhaps.
    if (publication.rule) await listed(tx, id, body.equipment)
    await putLive(tx, publication, body, { by, ...how, draftVersion: publication.version })
    await announce(tx, 'publication')
    return getPublication(tx, id)
  })
}

/** Freezes it as the next version, which is live from then on. */
async function putLive(
  tx: Conn,
  { id, liveVersion }: Publication,
  body: Omit<Plan, 'number' | 'delivery'>,
  { by, takeBack = false, note = '', accepted = [], draftVersion }: Partial<GoLive> & { by: string; draftVersion: number },
): Promise<void> {
  const last = await tx
    .selectFrom('publication_version')
    .select((f) => f.fn.max('number').as('n'))
    .where('publication_id', '=', id)
    .executeTakeFirst()
  const number = (last?.n ?? 0) + 1
  const delivery = await tx
    .insertInto('delivery')
    .values({ publication_id: id, destination_id: await laneFor(tx, body.destinationId, nodeOf(body.shape)) })
    .onConflict((c) => c.columns(['publication_id', 'destination_id']).doUpdateSet({ publication_id: id }))
    .returning('number')
    .executeTakeFirstOrThrow()
  const plan: Plan = { ...body, number, delivery: delivery.number }
  await sendsAgain(tx, plan)
  if (takeBack && liveVersion !== null) {
    const before = await planOf(tx, id, liveVersion)
    const left = before?.destinationId === plan.destinationId ? leftBehind(before, plan) : []
    if (left.length > 0) await takeBackLater(tx, delivery.number, left)
  }
  await tx
    .insertInto('publication_version')
    .values({ publication_id: id, number, plan: JSON.stringify(plan), made_by: by, note, accepted: JSON.stringify(accepted) })
    .execute()
  await tx.updateTable('publication').set({ state: 'live', live_version: number, live_draft_version: draftVersion }).where('id', '=', id).execute()
}

/** Nobody's draft: what is live is none that is being written. */
const NO_DRAFT = -1

/** Makes an earlier version live again, as it was frozen, under a number of its own. What is being written stays as it is. */
export async function goBack(db: Db, id: string, number: number, by: string): Promise<Publication> {
  return transacted(db, async (tx) => {
    await tx.selectFrom('publication').select('id').where('id', '=', id).forUpdate().execute()
    const publication = await getPublication(tx, id)
    if (publication.state === 'live' && publication.liveVersion === number)
      throw fail(409, 'version.live', `Version ${number} of ${publication.name} is live`, 'Choose another one', 'publication')
    const { number: _n, delivery: _d, ...plan } = await frozen(tx, id, number)
    await demandPossible(tx, publication.name, plan)
    await putLive(tx, publication, { ...plan, backTo: plan.backTo ?? number }, { by, draftVersion: NO_DRAFT })
    await announce(tx, 'publication')
    return getPublication(tx, id)
  })
}

/** The same, or a failure that says that there is none. */
export async function frozen(db: Conn, publicationId: string, number: number): Promise<Plan> {
  const plan = await planOf(db, publicationId, number)
  if (!plan) throw fail(404, 'version.unknown', `There is no version ${number}`, 'Refresh the list', 'publication')
  return plan
}

/** A frozen plan; null: there is none of that number. */
export async function planOf(db: Conn, publicationId: string, number: number): Promise<Plan | null> {
  const row = await db
    .selectFrom('publication_version')
    .select('plan')
    .where('publication_id', '=', publicationId)
    .where('number', '=', number)
    .executeTakeFirst()
  return row?.plan ?? null
}

/** What was frozen for a destination as it was then does not go on where the destination can no more do it. */
async function demandPossible(db: Conn, name: string, plan: Omit<Plan, 'number' | 'delivery'>): Promise<void> {
  const stop = beyond(plan, await getDestination(db, plan.destinationId)).find((f) => f.severity === 'stops')
  if (stop) throw fail(409, 'publication.beyond', `${name} cannot go on: ${stop.message}`, stop.hint, 'publication')
}

/** What a rule chose stands in the draft too: whatever asks who uses an equipment looks there. */
async function listed(tx: Conn, id: string, equipment: Plan['equipment']): Promise<void> {
  await sql`update publication set draft = jsonb_set(draft, '{equipmentIds}', ${JSON.stringify([...new Set(equipment.map((e) => e.id))])}::jsonb)
    where id = ${id}`.execute(tx)
}

/** Stops it; resuming goes on with the same frozen plan. */
export async function setRunning(db: Db, id: string, running: boolean): Promise<Publication> {
  return transacted(db, async (tx) => {
    const p = await getPublication(tx, id)
    if (p.liveVersion === null) throw fail(409, 'publication.never-live', `${p.name} has never been live`, 'Go live first', 'publication')
    const plan = running ? await planOf(tx, id, p.liveVersion) : null
    if (plan) await demandPossible(tx, p.name, plan)
    await tx
      .updateTable('publication')
      .set({ state: running ? 'live' : 'paused' })
      .where('id', '=', id)
      .execute()
    await announce(tx, 'publication')
    return getPublication(tx, id)
  })
}

export async function removePublication(db: Db, id: string): Promise<void> {
  await transacted(db, async (tx) => {
    const p = await getPublication(tx, id)
    if (p.state === 'live') throw fail(409, 'publication.live', `${p.name} is live`, 'Pause it first', 'publication')
    await tx.deleteFrom('publication').where('id', '=', id).execute()
    await removeIdleLanes(tx)
    await announce(tx, 'publication')
  })
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
  /** With the node, where one speaks there by itself. */
  destination: string
  /** The connection on which it goes out. */
  lane: string
}

export async function listDeliveries(db: Conn): Promise<DeliveryRow[]> {
  const rows = await sql<DeliveryRow>`
    select d.number, p.id as "publicationId", p.name as publication, t.id as "destinationId", l.id as lane,
      case when l.node = '' then t.name else t.name || ', node ' || l.node end as destination
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
