import type { MessageOrigins } from '~/contract/journal'
import type { Plan } from '~/contract/publication'
import { originsOf } from '~/core/proof/origins'
import type { RowPart } from '~/core/publication/placed-rows'
import type { Conn } from './database'

const rowWords: Record<RowPart, (column: string) => string> = {
  column: (column) => column,
  name: () => 'what tells it from others',
  change: () => 'what became of it',
}
const gone = { tagId: null, tag: 'a tag that is no more', sourceId: null, source: '', address: '', scaled: '' }

/** From what the members of a message to a place were made, with the tags as they are now. */
export async function originsIn(db: Conn, plan: Plan, place: string): Promise<MessageOrigins> {
  const found = originsOf(plan, place)
  const handles = [...new Set(found.flatMap((e) => e.members.flatMap((m) => m.handles)))]
  const named = new Map<number, MessageOrigins['equipment'][number]['members'][number]['from'][number]>()
  if (handles.length > 0) {
    const tags = await db
      .selectFrom('tag as t')
      .innerJoin('source as s', 's.id', 't.source_id')
      .select(['t.handle', 't.id as tagId', 't.name as tag', 't.address', 't.scaling', 's.id as sourceId', 's.name as source'])
      .where('t.handle', 'in', handles)
      .execute()
    for (const { handle, scaling, ...t } of tags) {
      const scaled = scaling ? `${scaling.rawLow} to ${scaling.rawHigh} is ${scaling.low} to ${scaling.high}` : ''
      named.set(handle, { ...t, scaled })
    }
    const records = await db
      .selectFrom('record_column as r')
      .innerJoin('source as s', 's.id', 'r.source_id')
      .select(['r.handle', 'r.row_key', 'r.column_name', 's.id as sourceId', 's.name as source'])
      .where('r.handle', 'in', handles)
      .execute()
    for (const r of records)
      named.set(r.handle, {
        tagId: null,
        tag: 'a record',
        sourceId: r.sourceId,
        source: r.source,
        address: [r.row_key, r.column_name].filter(Boolean).join(' '),
        scaled: '',
      })
    const rows = await db
      .selectFrom('row_value as r')
      .innerJoin('source as s', 's.id', 'r.source_id')
      .select(['r.handle', 'r.at', 'r.part', 'r.column_name', 's.id as sourceId', 's.name as source'])
      .where('r.handle', 'in', handles)
      .execute()
    for (const { handle, at, part, column_name, sourceId, source } of rows)
      named.set(handle, { tagId: null, tag: 'a row', sourceId, source, address: `${at} ${rowWords[part](column_name)}`.trim(), scaled: '' })
  }
  return {
    equipment: found.map(({ equipment, id, members }) => ({
      ...{ id, name: equipment },
      members: members.map(({ handles: own, ...m }) => ({ ...m, from: [...new Set(own.map((h) => named.get(h) ?? gone))] })),
    })),
  }
}
