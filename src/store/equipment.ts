import { sql } from 'kysely'
import type { ClassDraft, Equipment, EquipmentClass, EquipmentDraft } from '~/contract/equipment'
import { FailureError, fail } from '~/contract/failure'
import { newId } from '~/contract/id'
import { branchOf, byName, mayHangUnder } from '~/core/equipment/hierarchy'
import { announce, type Conn, type Db, explain } from './database'

const words = {
  class_name: { field: 'name', message: 'Another class has this name' },
  equipment_name: { field: 'name', message: 'Something beside it has this name' },
  equipment_class_id: { field: 'id', message: 'Equipment of this class still exists' },
  equipment_parent: { field: 'id', message: 'There is equipment under it' },
}

export async function listClasses(db: Conn): Promise<EquipmentClass[]> {
  const rows = await db
    .selectFrom('equipment_class as c')
    .select((q) => [
      'c.id',
      'c.name',
      'c.members',
      'c.version',
      q
        .selectFrom('equipment')
        .whereRef('class_id', '=', 'c.id')
        .select((f) => f.fn.countAll<number>().as('n'))
        .as('n'),
    ])
    .orderBy('c.name')
    .execute()
  return rows.map(({ n, ...r }) => ({ ...r, equipmentCount: n ?? 0 }))
}

export async function getClass(db: Conn, id: string): Promise<EquipmentClass> {
  const found = (await listClasses(db)).find((c) => c.id === id)
  if (!found) throw fail(404, 'class.unknown', 'There is no such class', 'Refresh the list', 'equipment')
  return found
}

export async function addClass(db: Db, draft: ClassDraft, id = newId()): Promise<EquipmentClass> {
  try {
    return await db.transaction().execute(async (tx) => {
      await tx
        .insertInto('equipment_class')
        .values({ id, name: draft.name, members: JSON.stringify(draft.members) })
        .execute()
      await announce(tx, 'equipment')
      return getClass(tx, id)
    })
  } catch (e) {
    throw explain(e, words)
  }
}

export async function changeClass(db: Db, id: string, draft: ClassDraft): Promise<EquipmentClass> {
  try {
    return await db.transaction().execute(async (tx) => {
      await getClass(tx, id)
      await tx
        .updateTable('equipment_class')
        .set((q) => ({ name: draft.name, members: JSON.stringify(draft.members), version: q('version', '+', 1) }))
        .where('id', '=', id)
        .execute()
      await announce(tx, 'equipment')
      return getClass(tx, id)
    })
  } catch (e) {
    throw explain(e, words)
  }
}

export async function removeClass(db: Db, id: string): Promise<void> {
  try {
    await db.transaction().execute(async (tx) => {
      await getClass(tx, id)
      await tx.deleteFrom('equipment_class').where('id', '=', id).execute()
      await announce(tx, 'equipment')
    })
  } catch (e) {
    throw explain(e, words)
  }
}

const columns = ['id', 'name', 'parent_id as parentId', 'level', 'class_id as classId', 'bindings', 'version'] as const

export async function listEquipment(db: Conn): Promise<Equipment[]> {
  const rows = await db.selectFrom('equipment').select(columns).execute()
  return rows.sort((a, b) => byName(a.name, b.name))
}

export async function getEquipment(db: Conn, id: string): Promise<Equipment> {
  const row = await db.selectFrom('equipment').select(columns).where('id', '=', id).executeTakeFirst()
  if (!row) throw fail(404, 'equipment.unknown', 'There is no such equipment', 'Refresh the plant', 'equipment')
  return row
}

/** Refuses a place, class or binding that doesn't hold together; messages by field. */
async function examine(tx: Conn, draft: EquipmentDraft, own: string | null): Promise<void> {
  const fields: Record<string, string> = {}
  const parent = draft.parentId
    ? await tx.selectFrom('equipment').select(['level', 'name']).where('id', '=', draft.parentId).executeTakeFirst()
    : null
  if (draft.parentId && !parent) fields.parentId = 'There is no such equipment'
  else if (!mayHangUnder(draft.level, parent?.level ?? null))
    fields.level = parent ? `A ${draft.level} cannot stand under ${parent.name}, a ${parent.level}` : 'Only an enterprise stands at the top'
  if (own && draft.parentId && branchOf(await listEquipment(tx), own).has(draft.parentId)) fields.parentId = 'It cannot stand under itself'
  const cls = draft.classId ? await tx.selectFrom('equipment_class').select('members').where('id', '=', draft.classId).executeTakeFirst() : null
  if (draft.classId && !cls) fields.classId = 'There is no such class'
  const bound = Object.entries(draft.bindings)
  const tagIds = bound.flatMap(([, b]) => (b.kind === 'tag' ? [b.tagId] : []))
  const known = new Set(tagIds.length === 0 ? [] : (await tx.selectFrom('tag').select('id').where('id', 'in', tagIds).execute()).map((t) => t.id))
  for (const [key, b] of bound) {
    if (cls && !cls.members.some((m) => m.key === key)) fields[`bindings.${key}`] = 'The class has no such member'
    if (b.kind === 'tag' && !known.has(b.tagId)) fields[`bindings.${key}`] = 'There is no such tag'
  }
  const first = Object.values(fields)[0]
  if (first)
    throw new FailureError(
      { code: 'equipment.refused', message: first, hint: 'Correct the named fields; nothing was saved', where: 'equipment', fields },
      422,
    )
}

export async function addEquipment(db: Db, draft: EquipmentDraft, id = newId()): Promise<Equipment> {
  try {
    return await db.transaction().execute(async (tx) => {
      await examine(tx, draft, null)
      await tx
        .insertInto('equipment')
        .values({
          id,
          name: draft.name,
          parent_id: draft.parentId,
          level: draft.level,
          class_id: draft.classId,
          bindings: JSON.stringify(draft.bindings),
        })
        .execute()
      await announce(tx, 'equipment')
      return getEquipment(tx, id)
    })
  } catch (e) {
    throw explain(e, words)
  }
}

export async function changeEquipment(db: Db, id: string, draft: EquipmentDraft): Promise<Equipment> {
  try {
    return await db.transaction().execute(async (tx) => {
      await getEquipment(tx, id)
      await examine(tx, draft, id)
      await tx
        .updateTable('equipment')
        .set((q) => ({
          name: draft.name,
          parent_id: draft.parentId,
          level: draft.level,
          class_id: draft.classId,
          bindings: JSON.stringify(draft.bindings),
          version: q('version', '+', 1),
        }))
        .where('id', '=', id)
        .execute()
      await announce(tx, 'equipment')
      return getEquipment(tx, id)
    })
  } catch (e) {
    throw explain(e, words)
  }
}

export async function removeEquipment(db: Db, id: string): Promise<void> {
  try {
    await db.transaction().execute(async (tx) => {
      const one = await getEquipment(tx, id)
      const used = await sql<{ name: string }>`
        select name from publication where draft->'equipmentIds' ? ${id} limit 1`.execute(tx)
      if (used.rows[0])
        throw fail(409, 'equipment.used', `${used.rows[0].name} sends ${one.name}`, 'Take it out of that publication first', 'equipment')
      await tx.deleteFrom('equipment').where('id', '=', id).execute()
      await announce(tx, 'equipment')
    })
  } catch (e) {
    throw explain(e, words)
  }
}
