import { sql } from 'kysely'
import type { RowPick } from '~/contract/rows'
import type { RowWorld } from '~/core/publication/placed'
import { rowPlace, rowSlots } from '~/core/publication/placed-rows'
import { givesRows } from '~/core/rows/kinds'
import type { Conn } from './database'

/** Sources of documents, and where values of their rows are put. */
export async function loadRows(db: Conn): Promise<RowWorld> {
  const [sources, slots] = await Promise.all([
    db.selectFrom('source').select(['id', 'name', 'kind']).execute(),
    db.selectFrom('row_value').select(['source_id as sourceId', 'at', 'part', 'column_name as column', 'data_type as dataType', 'handle']).execute(),
  ])
  return {
    sources: new Map(sources.filter((s) => givesRows(s.kind)).map((s) => [s.id, s.name])),
    handles: new Map(slots.map((s) => [rowPlace(s), s.handle])),
  }
}

/** Gives a handle to all that is read of the rows of a source; those that nobody uses any more stay, and cost nothing. */
export async function keepRows(tx: Conn, pick: RowPick): Promise<void> {
  // Of a source that is gone the preflight tells.
  if (!(await tx.selectFrom('source').select('id').where('id', '=', pick.sourceId).executeTakeFirst())) return
  const slots = rowSlots(pick)
  const column = (of: 'part' | 'column' | 'dataType') => slots.map((s) => s[of])
  await sql`insert into row_value (source_id, at, part, column_name, data_type)
    select ${pick.sourceId}::uuid, ${pick.at}::text, * from unnest(${column('part')}::text[], ${column('column')}::text[], ${column('dataType')}::text[])
    on conflict do nothing`.execute(tx)
}

/** Publication `p` sends rows of this source, or looks something up in them. */
export const sendsRowsOf = (sourceId: string) => {
  const step = JSON.stringify([{ kind: 'record', sourceId }])
  return sql<boolean>`(p.draft->'rows'->>'sourceId' = ${sourceId} or p.draft->'steps' @> ${step}::jsonb or p.draft->'own' @> ${step}::jsonb)`
}
