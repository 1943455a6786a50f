import { sql } from 'kysely'
import type { Equipment, EquipmentBrief } from '~/contract/equipment'
import { fail } from '~/contract/failure'
import { byName } from '~/core/equipment/hierarchy'
import type { Conn } from './database'

const columns = [
  'id',
  'name',
  'parent_id as parentId',
  'level',
  'class_id as classId',
  'alias',
  'facts',
  'external_ids as externalIds',
  'counts',
  'bindings',
  'version',
] as const

export async function listEquipment(db: Conn): Promise<Equipment[]> {
  const rows = await db.selectFrom('equipment').select(columns).execute()
  return rows.sort((a, b) => byName(a.name, b.name))
}

export async function outlineEquipment(db: Conn): Promise<EquipmentBrief[]> {
  return db.selectFrom('equipment').select(['id', 'name', 'parent_id as parentId', 'level', 'class_id as classId']).execute()
}

export async function getEquipment(db: Conn, id: string): Promise<Equipment> {
  const row = await db.selectFrom('equipment').select(columns).where('id', '=', id).executeTakeFirst()
  if (!row) throw fail(404, 'equipment.unknown', 'There is no such equipment', 'Refresh the plant', 'equipment')
  return row
}

/** A member of an equipment that is filled from a tag or record source, straight or through an expression. */
export interface Filled {
  id: string
  name: string
  member: string
  /** Id of the tag or source. */
  by: string
}

/** Members filled from any of these: `what` says whether the ids are of tags or sources. Bindings whose member is gone don't count. */
export async function filledBy(db: Conn, what: 'tagId' | 'sourceId', ids: readonly string[]): Promise<Filled[]> {
  if (ids.length === 0) return []
  const path = sql.raw(`'$.**.${what}'`)
  const rows = await sql<{ id: string; name: string; path: string; by: string }>`
    select distinct e.id, e.name, b.key as path, f #>> '{}' as by from equipment e, jsonb_each(e.bindings) b, jsonb_path_query(b.value, ${path}) f
    where f #>> '{}' = any(${[...ids]}::text[])`.execute(db)
  const classes = await db.selectFrom('equipment_class').select('members').execute()
  const labels = new Map(classes.flatMap((c) => c.members.map((m) => [m.id, m.label] as const)))
  return rows.rows
    .flatMap(({ path: p, ...r }) => {
      const parts = p.split('/')
      const member = parts.map((x) => (/^\d+$/.test(x) ? String(Number(x) + 1) : labels.get(x)))
      return member.includes(undefined) ? [] : [{ ...r, member: member.join(' ') }]
    })
    .sort((a, b) => byName(a.name, b.name) || byName(a.member, b.member))
}
