import { sql } from 'kysely'
import { ClassDraft, type ClassInput, type ClassVersion, type EquipmentClass } from '~/contract/equipment'
import { FailureError, fail } from '~/contract/failure'
import { newId } from '~/contract/id'
import { checkClass } from '~/core/equipment/class-check'
import { Resolver } from '~/core/equipment/resolve'
import { announce, type Conn, type Db, demandBegun, explain } from './database'
import { listEquipment } from './equipment'
import { keepRecords } from './record'
import { transacted } from './transacted'

const words = {
  class_name: { field: 'name', message: 'Another class has this name' },
  equipment_class_id: { field: 'id', message: 'Equipment of this class still exists' },
  class_extends: { field: 'id', message: 'Another class extends this one' },
}

export async function listClasses(db: Conn): Promise<EquipmentClass[]> {
  const rows = await db
    .selectFrom('equipment_class as c')
    .select((q) => [
      'c.id',
      'c.name',
      'c.description',
      'c.extends_id as extendsId',
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

async function check(tx: Conn, draft: ClassDraft, id: string | null): Promise<void> {
  // Classes hold each other: two that are changed at the same time must not close a circle.
  await sql`select pg_advisory_xact_lock(hashtext('equipment_class'))`.execute(tx)
  const classes = new Map((await listClasses(tx)).map((c) => [c.id, c]))
  const fields = checkClass(draft, id, classes)
  const first = Object.values(fields)[0]
  if (first)
    throw new FailureError(
      { code: 'class.refused', message: first, hint: 'Correct the named fields; nothing was saved', where: 'equipment', fields },
      422,
    )
}

async function keep(tx: Conn, id: string, by: string): Promise<EquipmentClass> {
  const now = await getClass(tx, id)
  const { name, description, extendsId, members, version } = now
  await tx
    .insertInto('class_version')
    .values({ class_id: id, version, made_by: by, draft: JSON.stringify({ name, description, extendsId, members }) })
    .execute()
  await announce(tx, 'equipment')
  return now
}

export async function addClass(db: Db, input: ClassInput, by = '', id = newId()): Promise<EquipmentClass> {
  const draft = ClassDraft.parse(input)
  try {
    return await transacted(db, async (tx) => {
      await check(tx, draft, null)
      await tx
        .insertInto('equipment_class')
        .values({ id, name: draft.name, description: draft.description, extends_id: draft.extendsId, members: JSON.stringify(draft.members) })
        .execute()
      return keep(tx, id, by)
    })
  } catch (e) {
    throw explain(e, words)
  }
}

/** Changes a class; what is live stays as it was frozen. Every state that it had can be looked up. */
export async function changeClass(db: Db, id: string, input: ClassInput, by = '', begun?: number): Promise<EquipmentClass> {
  const draft = ClassDraft.parse(input)
  try {
    return await transacted(db, async (tx) => {
      const now = await getClass(tx, id)
      await check(tx, draft, id)
      const updated = await tx
        .updateTable('equipment_class')
        .set((q) => ({
          name: draft.name,
          description: draft.description,
          extends_id: draft.extendsId,
          members: JSON.stringify(draft.members),
          version: q('version', '+', 1),
        }))
        .where('id', '=', id)
        .where('version', '=', begun ?? now.version)
        .executeTakeFirst()
      demandBegun(updated, now.name, 'equipment')
      const equipment = await listEquipment(tx)
      const classes = new Map((await listClasses(tx)).map((c) => [c.id, c]))
      // A member may be of another type now, and so a record column read as another.
      await keepRecords(tx, equipment, new Resolver({ equipment: new Map(), classes, tags: new Map(), records: new Map() }))
      return keep(tx, id, by)
    })
  } catch (e) {
    throw explain(e, words)
  }
}

export async function removeClass(db: Db, id: string): Promise<void> {
  try {
    await transacted(db, async (tx) => {
      const one = await getClass(tx, id)
      const holder = (await listClasses(tx)).find((c) => c.members.some((m) => m.classId === id))
      if (holder) throw fail(409, 'class.used', `${holder.name} has ${one.name} as a part`, 'Take it out there first', 'equipment')
      await tx.deleteFrom('equipment_class').where('id', '=', id).execute()
      await announce(tx, 'equipment')
    })
  } catch (e) {
    throw explain(e, words)
  }
}

/** All states a class has had, the newest first. */
export async function classVersions(db: Conn, id: string): Promise<ClassVersion[]> {
  await getClass(db, id)
  const rows = await db.selectFrom('class_version').selectAll().where('class_id', '=', id).orderBy('version', 'desc').execute()
  return rows.map((r) => ({ version: r.version, at: r.at.getTime(), by: r.made_by, draft: r.draft }))
}
