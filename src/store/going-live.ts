import { sql } from 'kysely'
import { fail } from '~/contract/failure'
import type { Accepted, Looked } from '~/contract/preflight'
import type { Plan, Publication } from '~/contract/publication'
import { kindOf } from '~/core/address/kinds'
import { beyond } from '~/core/publication/beyond'
import { leftBehind } from '~/core/publication/left-behind'
import { nodeOf } from '~/core/shape/registry'
import { demandAsLooked, lockWhole } from './clauses'
import { announce, type Conn, type Db } from './database'
import { getDestination } from './destination'
import { laneFor } from './lane'
import { frozen, getPublication, planOf } from './publication'
import { sendsAgain, takeBackLater } from './taken-back'
import { transacted } from './transacted'

/** What is said at a go-live. */
export interface GoLive {
  /** What the destination keeps of the version before is taken back. */
  takeBack: boolean
  note: string
  /** Warnings that are lived with. */
  accepted: readonly Accepted[]
  /** Drafts as they were looked at, clause by clause: none of them is frozen otherwise. */
  looked: readonly Looked[]
}

type Body = Omit<Plan, 'number' | 'delivery'>

/** Freezes a publication and all its further clauses as the next version and makes it live, in one transaction. */
export async function goLive(
  db: Db,
  id: string,
  by: string,
  freeze: (publication: Publication, tx: Conn) => Promise<Body>,
  how: Partial<GoLive> = {},
): Promise<Publication> {
  return transacted(db, async (tx) => {
    const whole = await lockWhole(tx, id)
    if (how.looked)
      demandAsLooked(
        whole[0]!.name,
        how.looked,
        whole.filter((p) => !p.off),
      )
    const number = await nextNumber(tx, whole)
    // What its own clauses send now is no rival of what they will send.
    await standStill(tx, whole)
    for (const publication of whole) {
      if (publication.off) {
        await seen(tx, publication)
        continue
      }
      const body = await freeze(publication, tx)
      // By a rule it is for others than when it was written, perhaps.
      if (publication.rule) await listed(tx, publication.id, body.equipment)
      // What it keeps elsewhere is taken back where that is usual; where it is not, only if it was asked for right there.
      const takeBack = how.takeBack === true && (publication.id === id || kindOf(publication.address).leaves.taken)
      await putLive(tx, publication, body, { by, ...how, takeBack, number, draftVersion: publication.version })
    }
    await announce(tx, 'publication')
    return getPublication(tx, id)
  })
}

/** All its clauses go live under one number. */
async function nextNumber(tx: Conn, whole: readonly Publication[]): Promise<number> {
  const last = await tx
    .selectFrom('publication_version')
    .select((f) => f.fn.max('number').as('n'))
    .where(
      'publication_id',
      'in',
      whole.map((p) => p.id),
    )
    .executeTakeFirst()
  return (last?.n ?? 0) + 1
}

/** Those that are live are paused, unless they are made live again. */
async function standStill(tx: Conn, whole: readonly Publication[]): Promise<void> {
  await tx
    .updateTable('publication')
    .set({ state: 'paused' })
    .where('state', '=', 'live')
    .where(
      'id',
      'in',
      whole.map((p) => p.id),
    )
    .execute()
}

/** A clause that is switched off has no edits that are not live. */
async function seen(tx: Conn, { id, version }: Publication): Promise<void> {
  await tx.updateTable('publication').set({ live_draft_version: version }).where('id', '=', id).execute()
}

/** Freezes it as this version, which is live from then on. */
async function putLive(
  tx: Conn,
  { id, liveVersion }: Publication,
  body: Body,
  { by, number, takeBack = false, note = '', accepted = [], draftVersion }: Partial<GoLive> & { by: string; number: number; draftVersion: number },
): Promise<void> {
  const delivery = await tx
    .insertInto('delivery')
    .values({ publication_id: id, destination_id: await laneFor(tx, body.destinationId, { node: nodeOf(body.shape), ahead: body.ahead === true }) })
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

/**
 * Makes an earlier version live again, as it was frozen, under a number of its own: all clauses that it had, and no others.
 * What is being written stays as it is.
 */
export async function goBack(db: Db, id: string, number: number, by: string): Promise<Publication> {
  return transacted(db, async (tx) => {
    const whole = await lockWhole(tx, id)
    const root = whole[0]!
    if (root.state === 'live' && root.liveVersion === number)
      throw fail(409, 'version.live', `Version ${number} of ${root.name} is live`, 'Choose another one', 'publication')
    await frozen(tx, root.id, number)
    const next = await nextNumber(tx, whole)
    await standStill(tx, whole)
    for (const publication of whole) {
      const then = await planOf(tx, publication.id, number)
      if (!then) continue
      const { number: _n, delivery: _d, ...plan } = then
      await demandPossible(tx, publication.name, plan)
      await putLive(tx, publication, { ...plan, backTo: plan.backTo ?? number }, { by, number: next, draftVersion: NO_DRAFT })
    }
    await announce(tx, 'publication')
    return getPublication(tx, id)
  })
}

/** What was frozen for a destination as it was then does not go on where the destination can no more do it. */
async function demandPossible(db: Conn, name: string, plan: Body): Promise<void> {
  const stop = beyond(plan, await getDestination(db, plan.destinationId)).find((f) => f.severity === 'stops')
  if (stop) throw fail(409, 'publication.beyond', `${name} cannot go on: ${stop.message}`, stop.hint, 'publication')
}

/** What a rule chose stands in the draft too: whatever asks who uses an equipment looks there. */
async function listed(tx: Conn, id: string, equipment: Plan['equipment']): Promise<void> {
  await sql`update publication set draft = jsonb_set(draft, '{equipmentIds}', ${JSON.stringify([...new Set(equipment.map((e) => e.id))])}::jsonb)
    where id = ${id}`.execute(tx)
}

/** Stops it with all its clauses; resuming goes on with the same frozen version. */
export async function setRunning(db: Db, id: string, running: boolean): Promise<Publication> {
  return transacted(db, async (tx) => {
    const whole = await lockWhole(tx, id)
    const root = whole[0]!
    if (root.liveVersion === null) throw fail(409, 'publication.never-live', `${root.name} has never been live`, 'Go live first', 'publication')
    // A clause that the version does not have stays away.
    const of = whole.filter((p) => p.liveVersion === root.liveVersion)
    for (const p of of) {
      const plan = running ? await planOf(tx, p.id, root.liveVersion) : null
      if (plan) await demandPossible(tx, p.name, plan)
    }
    await tx
      .updateTable('publication')
      .set({ state: running ? 'live' : 'paused' })
      .where(
        'id',
        'in',
        of.map((p) => p.id),
      )
      .execute()
    await announce(tx, 'publication')
    return getPublication(tx, id)
  })
}
