import { sql } from 'kysely'
import { fail } from '~/contract/failure'
import type { Tag, TagUse } from '~/contract/tag'
import { byName } from '~/core/equipment/hierarchy'
import { pickedBy } from './bare-tags'
import type { Conn } from './database'
import { filledBy } from './equipment'

const columns = [
  'id',
  'handle',
  'name',
  'source_id as sourceId',
  'address',
  'data_type as dataType',
  'unit',
  'description',
  'format',
  'deadband',
  'range',
  'scaling',
  'access',
  'sample_ms as sampleMs',
  'group_id as groupId',
  'initial',
  'hold',
  'history',
  'chart',
  'signal',
  'simulated',
  'version',
] as const

/** All tags, or those of one source. */
export async function listTags(db: Conn, sourceId?: string): Promise<Tag[]> {
  const all = db.selectFrom('tag').select(columns).orderBy('handle')
  return (sourceId === undefined ? all : all.where('source_id', '=', sourceId)).execute()
}

/** The first so many in the order of their names, as people read them. */
export async function firstTags(db: Conn, most: number): Promise<Tag[]> {
  const names = await db.selectFrom('tag').select(['id', 'name']).execute()
  names.sort((a, b) => byName(a.name, b.name))
  const ids = names.slice(0, most).map((t) => t.id)
  const tags = await db.selectFrom('tag').select(columns).where('id', '=', sql<string>`any(${ids}::uuid[])`).execute()
  return tags.sort((a, b) => byName(a.name, b.name))
}

/** Those with some ids that there are. */
export const tagsById = (db: Conn, ids: readonly string[]): Promise<Tag[]> =>
  db
    .selectFrom('tag')
    .select(columns)
    .where('id', '=', sql<string>`any(${[...ids]}::uuid[])`)
    .execute()

/** Those that fill members of some equipment, straight or through an expression. */
export async function tagsOfEquipment(db: Conn, equipmentIds: readonly string[]): Promise<Tag[]> {
  const bound = sql<string>`any(array(
    select (f #>> '{}')::uuid from equipment e, jsonb_path_query(e.bindings, '$.**.tagId') f where e.id = any(${[...equipmentIds]}::uuid[])))`
  return db.selectFrom('tag').select(columns).where('id', '=', bound).orderBy('handle').execute()
}

/** Handles of the tags that fill members of equipment, straight or through an expression. */
export async function usedTags(db: Conn): Promise<number[]> {
  const rows = await sql<{ handle: number }>`
    select t.handle from tag t where t.id::text in (
      select f #>> '{}' from equipment e, jsonb_path_query(e.bindings, '$.**.tagId') f)
      or exists (select 1 from publication p where ${pickedBy}) order by t.handle`.execute(db)
  return rows.rows.map((r) => r.handle)
}

/** Tags by id, locked until the transaction ends; those that are not there are missing. */
export async function lockTags(tx: Conn, ids: readonly string[]): Promise<Map<string, Tag>> {
  if (ids.length === 0) return new Map()
  const rows = await tx
    .selectFrom('tag')
    .select(columns)
    .where('id', '=', sql<string>`any(${[...ids]}::uuid[])`)
    .orderBy('id')
    .forUpdate()
    .execute()
  return new Map(rows.map((t) => [t.id, t]))
}

export async function getTag(db: Conn, id: string): Promise<Tag> {
  const tag = await db.selectFrom('tag').select(columns).where('id', '=', id).executeTakeFirst()
  if (!tag) throw fail(404, 'tag.unknown', 'There is no such tag', 'It may have been removed: refresh the table', 'tag')
  return tag
}

/** Which equipment and publications would notice if this tag went. */
export async function tagUse(db: Conn, id: string): Promise<TagUse> {
  const equipment = await filledBy(db, 'tagId', [id])
  const ids = [...new Set(equipment.map((e) => e.id))]
  const publications = await sql<{ id: string; name: string }>`
    select p.id, p.name from publication p join tag t on t.id = ${id}
    where p.draft->'equipmentIds' ?| ${ids}::text[] or ${pickedBy} order by p.name`.execute(db)
  return { equipment: equipment.map(({ id: one, name, member }) => ({ id: one, name, member })), publications: publications.rows }
}
