import { FailureError, fail } from '~/contract/failure'
import { newId } from '~/contract/id'
import type { Publication, PublicationDraft } from '~/contract/publication'
import { asClause, demandRoom, demandSamePlace, handOn, wholeOf } from './clauses'
import { announce, type Conn, type Db, demandBegun, explain } from './database'
import { removeIdleLanes } from './lane'
import { getPublication } from './publication'
import { keepRows } from './row'
import { transacted } from './transacted'

const words = {
  publication_name: { field: 'name', message: 'Another publication has this name' },
  publication_destination: { field: 'destinationId', message: 'There is no such destination' },
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

export async function addPublication(db: Db, wanted: PublicationDraft, id = newId()): Promise<Publication> {
  try {
    return await transacted(db, async (tx) => {
      const draft = somethingOf(await asClause(tx, wanted))
      await demandRoom(tx, draft)
      await demandOfKind(tx, draft)
      if (draft.rows) await keepRows(tx, draft.rows)
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

/** Something has to go out: rows or tags, and then no equipment, or equipment. */
function somethingOf(draft: PublicationDraft): PublicationDraft {
  const { equipmentIds, tags, rows, rule: _r, ...rest } = draft
  if (rows) return { ...rest, rows, equipmentIds: [] }
  if (tags) return { ...rest, tags, equipmentIds: [] }
  if (equipmentIds.length > 0) return draft
  const message = 'Choose at least one equipment'
  throw new FailureError(
    {
      code: 'publication.nothing',
      message,
      hint: 'Or tags without equipment, or rows of a source',
      where: 'publication',
      fields: { equipmentIds: message },
    },
    422,
  )
}

/** Changes what would go live next, of its further clauses too; what is live stays as it was frozen. */
export async function changePublication(db: Db, id: string, wanted: PublicationDraft, begun?: number): Promise<Publication> {
  try {
    return await transacted(db, async (tx) => {
      const now = await getPublication(tx, id)
      demandSamePlace(now, wanted)
      const draft = somethingOf(await asClause(tx, wanted))
      await demandOfKind(tx, draft)
      if (draft.rows) await keepRows(tx, draft.rows)
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
      await handOn(tx, now, draft)
      await announce(tx, 'publication')
      return getPublication(tx, id)
    })
  } catch (e) {
    throw explain(e, words)
  }
}

/** Removes it with its further clauses; of those each may be removed by itself. */
export async function removePublication(db: Db, id: string): Promise<void> {
  await transacted(db, async (tx) => {
    const p = await getPublication(tx, id)
    const going = p.alsoOf === undefined ? await wholeOf(tx, id) : [p]
    const live = going.find((g) => g.state === 'live')
    if (live) {
      const hint = live.alsoOf === undefined ? 'Pause it first' : 'Switch the clause off and go live, or pause all of it first'
      throw fail(409, 'publication.live', `${live.name} is live`, hint, 'publication')
    }
    await tx.deleteFrom('publication').where('id', '=', id).execute()
    await removeIdleLanes(tx)
    await announce(tx, 'publication')
  })
}
