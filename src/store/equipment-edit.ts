import { sql } from 'kysely'
import {
  type Equipment,
  EquipmentDraft,
  type EquipmentEdit,
  type EquipmentEdited,
  type EquipmentEditInput,
  EquipmentEdit as EquipmentEditSchema,
  type EquipmentInput,
} from '~/contract/equipment'
import { FailureError } from '~/contract/failure'
import { newId } from '~/contract/id'
import type { Tag } from '~/contract/tag'
import { equipmentProblems, someTag } from '~/core/equipment/check'
import { Resolver } from '~/core/equipment/resolve'
import { listClasses } from './class'
import { announce, type Conn, type Db, explain } from './database'
import { listEquipment } from './equipment'
import { keepRecords } from './record'
import { transacted } from './transacted'

const CHUNK = 2000

const words = {
  equipment_name: { field: 'name', message: 'Something beside it has this name' },
  equipment_parent: { field: 'id', message: 'There is equipment under it' },
}

const written = [
  ['name', 'text', 'name'],
  ['parent_id', 'uuid', 'parentId'],
  ['level', 'text', 'level'],
  ['class_id', 'uuid', 'classId'],
  ['alias', 'text', 'alias'],
  ['facts', 'jsonb', 'facts'],
  ['external_ids', 'jsonb', 'externalIds'],
  ['counts', 'jsonb', 'counts'],
  ['bindings', 'jsonb', 'bindings'],
] as const satisfies readonly (readonly [string, string, keyof EquipmentDraft])[]
const names = sql.raw(written.map(([c]) => c).join(', '))
const assigned = sql.raw(written.map(([c]) => `${c} = d.${c}`).join(', '))
const picked = sql.raw(written.map(([c]) => `d.${c}`).join(', '))

function table(rows: readonly Equipment[]) {
  const arrays = written.map(([, type, property]) => {
    const texts = rows.map((r) => {
      const value = r[property]
      return value === null ? null : type === 'jsonb' ? JSON.stringify(value) : String(value)
    })
    return sql`${texts}::text[]::${sql.raw(`${type}[]`)}`
  })
  return sql`unnest(${rows.map((r) => r.id)}::uuid[], ${sql.join(arrays)}) as d(id, ${names})`
}

/** Adds, changes and removes equipment in one transaction: all or none. */
export async function editEquipment(db: Db, input: EquipmentEditInput): Promise<EquipmentEdited> {
  const edit = EquipmentEditSchema.parse(input)
  try {
    return await transacted(db, async (tx) => {
      await sql`select pg_advisory_xact_lock(hashtext('equipment'))`.execute(tx)
      await sql`set constraints equipment_name, equipment_parent deferred`.execute(tx)
      const { before, changed, added, resolver } = await prepare(tx, edit)
      for (let i = 0; i < edit.remove.length; i += CHUNK)
        await sql`delete from equipment where id = any(${edit.remove.slice(i, i + CHUNK).map((r) => r.id)}::uuid[])`.execute(tx)
      for (let i = 0; i < changed.length; i += CHUNK)
        await sql`update equipment e set ${assigned}, version = e.version + 1 from ${table(changed.slice(i, i + CHUNK))} where e.id = d.id`.execute(
          tx,
        )
      for (let i = 0; i < added.length; i += CHUNK)
        await sql`insert into equipment (id, ${names}) select d.id, ${picked} from ${table(added.slice(i, i + CHUNK))}`.execute(tx)
      await keepRecords(tx, [...changed, ...added], resolver)
      await sql`set constraints equipment_name, equipment_parent immediate`.execute(tx)
      await announce(tx, 'equipment')
      return {
        equipment: [...added, ...changed.map((e) => ({ ...e, version: e.version + 1 }))],
        removed: edit.remove.map((r) => r.id),
        undo: undoOf(edit, before, added),
      }
    })
  } catch (e) {
    throw explain(e, words)
  }
}

/** The edit that takes this one back; refused when somebody has changed the same equipment since. */
function undoOf(edit: EquipmentEdit, before: ReadonlyMap<string, Equipment>, added: readonly Equipment[]): EquipmentEdit {
  return {
    add: edit.remove.map(({ id }) => {
      const { version: _v, ...draft } = before.get(id)!
      return draft
    }),
    change: edit.change.map(({ id, version: _v, ...patch }) => {
      const was = before.get(id)!
      return { ...Object.fromEntries(Object.keys(patch).map((k) => [k, was[k as keyof Equipment]])), id, version: was.version + 1 }
    }),
    remove: added.map((e) => ({ id: e.id, version: 1 })),
  }
}

async function knownIds(tx: Conn, edit: EquipmentEdit): Promise<{ tags: Map<string, Tag>; sources: Set<string> }> {
  const wanted = new Set<string>()
  const look = (bindings: Equipment['bindings'] | undefined) => {
    for (const b of Object.values(bindings ?? {})) {
      if (b.kind === 'tag') wanted.add(b.tagId)
      if (b.kind === 'expression') for (const i of Object.values(b.expression.inputs)) if (i.kind === 'tag') wanted.add(i.tagId)
    }
  }
  for (const e of edit.add) look(e.bindings)
  for (const e of edit.change) look(e.bindings)
  const tags =
    wanted.size === 0
      ? []
      : (
          await sql<{ id: string; dataType: Tag['dataType']; unit: string }>`
            select id, data_type as "dataType", unit from tag where id = any(${[...wanted]}::uuid[])`.execute(tx)
        ).rows
  const sources = await tx.selectFrom('source').select('id').execute()
  return { tags: new Map(tags.map((t) => [t.id, { ...someTag, ...t }])), sources: new Set(sources.map((s) => s.id)) }
}

interface Prepared {
  before: Map<string, Equipment>
  changed: Equipment[]
  added: Equipment[]
  resolver: Resolver
}

/** Checks everything before anything is written; throws with a message for each refused row: `change.3.level`. */
async function prepare(tx: Conn, edit: EquipmentEdit): Promise<Prepared> {
  const fields: Record<string, string> = {}
  let newer = false
  let unknown = false
  const before = new Map((await listEquipment(tx)).map((e) => [e.id, e]))
  const after = new Map(before)
  const known = (row: { id: string; version?: number | undefined }, path: string): Equipment | null => {
    const now = before.get(row.id)
    if (!now) {
      unknown = true
      fields[`${path}.id`] = 'There is no such equipment'
      return null
    }
    if (row.version !== undefined && row.version !== now.version) {
      newer = true
      fields[`${path}.version`] = `${now.name} was changed by somebody else meanwhile`
    }
    return now
  }
  edit.remove.forEach((row, i) => {
    if (known(row, `remove.${i}`)) after.delete(row.id)
  })
  const rows: { path: string; now: Equipment; was: Equipment | null }[] = []
  edit.change.forEach((row, i) => {
    const was = known(row, `change.${i}`)
    if (!was) return
    const { id: _i, version: _v, ...patch } = row
    const now = { ...was, ...patch }
    after.set(now.id, now)
    rows.push({ path: `change.${i}`, now, was })
  })
  edit.add.forEach((row, i) => {
    const now: Equipment = { ...row, id: row.id ?? newId(), version: 1 }
    if (after.has(now.id)) fields[`add.${i}.id`] = 'It exists already'
    after.set(now.id, now)
    rows.push({ path: `add.${i}`, now, was: null })
  })
  siblings(rows, after, fields)
  const { tags, sources } = await knownIds(tx, edit)
  const classes = new Map((await listClasses(tx)).map((c) => [c.id, c]))
  // Tags that no new binding names need not be read for the check: any will do.
  const anyTag = { get: (id: string) => tags.get(id) ?? someTag } as unknown as ReadonlyMap<string, Tag>
  const records = { get: () => 0 } as unknown as ReadonlyMap<string, number>
  const resolver = new Resolver({ equipment: after, classes, tags: anyTag, records })
  const kept = new Set([...before.values()].flatMap((e) => Object.values(e.bindings).flatMap((b) => (b.kind === 'tag' ? [b.tagId] : []))))
  const exists = { tag: (id: string) => tags.has(id) || kept.has(id), source: (id: string) => sources.has(id) }
  for (const { path, now, was } of rows)
    for (const [field, message] of Object.entries(equipmentProblems(now, was, resolver, exists))) fields[`${path}.${field}`] = message
  await stillNeeded(tx, edit, before, after, fields)
  const first = Object.entries(fields)
  if (first.length > 0)
    throw new FailureError(
      {
        code: newer ? 'equipment.newer' : unknown ? 'equipment.unknown' : 'equipment.refused',
        message: first.length === 1 || rows.length <= 1 ? first[0]![1] : `${first.length} things are wrong: ${first[0]![1]}`,
        hint: newer ? 'Look at it again, then repeat your change' : 'Correct or leave out the named rows; nothing was saved',
        where: 'equipment',
        fields,
      },
      newer ? 409 : unknown ? 404 : 422,
    )
  return { before, changed: rows.filter((r) => r.was).map((r) => r.now), added: rows.filter((r) => !r.was).map((r) => r.now), resolver }
}

/** Two beside each other must not have one name. */
function siblings(
  rows: readonly { path: string; now: Equipment; was: Equipment | null }[],
  after: ReadonlyMap<string, Equipment>,
  fields: Record<string, string>,
): void {
  const moved = rows.filter((r) => !r.was || r.was.name !== r.now.name || r.was.parentId !== r.now.parentId)
  if (moved.length === 0) return
  const places = new Map<string, string>()
  for (const e of after.values()) {
    const key = `${e.parentId} ${e.name}`
    const twin = places.get(key)
    if (twin === undefined) {
      places.set(key, e.id)
      continue
    }
    const row = moved.find((r) => r.now.id === e.id) ?? moved.find((r) => r.now.id === twin)
    if (row) fields[`${row.path}.name`] = `Something beside it is called ${e.name} already`
  }
}

/** Nothing that is removed may stand above, be sent, or fill something that stays. */
async function stillNeeded(
  tx: Conn,
  edit: EquipmentEdit,
  before: ReadonlyMap<string, Equipment>,
  after: ReadonlyMap<string, Equipment>,
  fields: Record<string, string>,
): Promise<void> {
  if (edit.remove.length === 0) return
  const place = new Map(edit.remove.map((r, i) => [r.id, i]))
  const say = (id: string, message: string) => {
    fields[`remove.${place.get(id)}.id`] = message
  }
  for (const e of after.values()) {
    if (e.parentId && place.has(e.parentId)) say(e.parentId, `${e.name} stands under ${before.get(e.parentId)?.name}`)
    for (const b of Object.values(e.bindings)) {
      const used = b.kind === 'equipment' || b.kind === 'member' ? [b.equipmentId] : []
      if (b.kind === 'expression')
        for (const i of Object.values(b.expression.inputs)) if (i.kind === 'member' && i.equipmentId) used.push(i.equipmentId)
      for (const id of used) if (place.has(id)) say(id, `${before.get(id)?.name} fills a member of ${e.name}`)
    }
  }
  // By a rule it just leaves with the next go-live.
  const sent = await sql<{ name: string; id: string }>`
    select p.name, x.id from publication p, jsonb_array_elements_text(p.draft->'equipmentIds') x(id)
    where x.id = any(${edit.remove.map((r) => r.id)}::text[]) and not p.draft ? 'rule'`.execute(tx)
  for (const s of sent.rows) say(s.id, `${s.name} sends ${before.get(s.id)?.name}: take it out there first`)
}

/** Renames the fields of a refused edit for callers that sent one thing. */
async function single(work: Promise<EquipmentEdited>): Promise<Equipment> {
  try {
    return (await work).equipment[0]!
  } catch (e) {
    if (!(e instanceof FailureError) || !e.failure.fields) throw e
    const fields = Object.fromEntries(Object.entries(e.failure.fields).map(([k, v]) => [k.replace(/^(add|change)\.0\./, ''), v]))
    throw new FailureError({ ...e.failure, fields }, e.status)
  }
}

export const addEquipment = (db: Db, input: EquipmentInput, id = newId()): Promise<Equipment> =>
  single(editEquipment(db, { add: [{ ...input, id }] }))

/** Replaces all that it has. */
export const changeEquipment = (db: Db, id: string, input: EquipmentInput): Promise<Equipment> =>
  single(editEquipment(db, { change: [{ ...EquipmentDraft.parse(input), id }] }))

export async function removeEquipment(db: Db, id: string): Promise<void> {
  await editEquipment(db, { remove: [{ id }] })
}
