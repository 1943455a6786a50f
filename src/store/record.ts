import { sql } from 'kysely'
import type { Equipment, RecordColumn } from '~/contract/equipment'
import { memberAt } from '~/core/equipment/check'
import { type Resolver, recordKey, recordRow } from '~/core/equipment/resolve'
import type { Conn } from './database'

/** Places in record sources that members are filled from, each with its handle in the live values. */
export async function listRecords(db: Conn): Promise<RecordColumn[]> {
  return db
    .selectFrom('record_column')
    .select(['source_id as sourceId', 'row_key as row', 'column_name as column', 'data_type as dataType', 'handle'])
    .execute()
}

/** Handles of record columns, as the resolver looks them up. */
export const recordHandles = (records: readonly RecordColumn[]): Map<string, number> =>
  new Map(records.map((r) => [recordKey(r.sourceId, r.row, r.column, r.dataType), r.handle]))

/** Gives a handle to every place that these equipment are filled from; those that nobody uses any more stay, and cost nothing. */
export async function keepRecords(tx: Conn, equipment: readonly Equipment[], resolver: Resolver): Promise<void> {
  const wanted = new Map<string, [string, string, string, string]>()
  for (const e of equipment)
    for (const [path, b] of Object.entries(e.bindings)) {
      if (b.kind !== 'record') continue
      const type = memberAt(resolver, e.classId, path)?.member.dataType
      if (!type) continue
      const row = recordRow(b.row, e)
      wanted.set(recordKey(b.sourceId, row, b.column, type), [b.sourceId, row, b.column, type])
    }
  if (wanted.size === 0) return
  const rows = [...wanted.values()]
  const column = (i: number) => rows.map((r) => r[i])
  await sql`insert into record_column (source_id, row_key, column_name, data_type)
    select * from unnest(${column(0)}::uuid[], ${column(1)}::text[], ${column(2)}::text[], ${column(3)}::text[])
    on conflict do nothing`.execute(tx)
}
