import { sql } from 'kysely'
import { FailureError } from '~/contract/failure'
import { newId } from '~/contract/id'
import { type Tag, type TagChange, TagDraft, type TagEdit, type TagEdited, type TagInput } from '~/contract/tag'
import { stored, tagProblems } from '~/core/tag/check'
import { announce, type Conn, type Db, explain } from './database'
import { lockTags } from './tag'

/** So many rows go to the database in one statement. */
const CHUNK = 5000

/** The columns of `tag` that an edit writes: their names, types, and the property each holds. */
const written = [
  ['name', 'text', 'name'],
  ['address', 'text', 'address'],
  ['data_type', 'text', 'dataType'],
  ['unit', 'text', 'unit'],
  ['description', 'text', 'description'],
  ['format', 'text', 'format'],
  ['deadband', 'jsonb', 'deadband'],
  ['range', 'jsonb', 'range'],
  ['scaling', 'jsonb', 'scaling'],
  ['access', 'text', 'access'],
  ['sample_ms', 'int', 'sampleMs'],
  ['group_id', 'uuid', 'groupId'],
  ['initial', 'jsonb', 'initial'],
  ['hold', 'text', 'hold'],
  ['history', 'jsonb', 'history'],
  ['chart', 'jsonb', 'chart'],
  ['signal', 'text', 'signal'],
  ['simulated', 'boolean', 'simulated'],
] as const satisfies readonly (readonly [string, string, keyof TagDraft])[]

const names = sql.raw(written.map(([c]) => c).join(', '))
const typed = sql.raw(written.map(([c, type]) => `${c} ${type}`).join(', '))
const assigned = sql.raw(written.map(([c]) => `${c} = d.${c}`).join(', '))
const picked = sql.raw(written.map(([c]) => `d.${c}`).join(', '))

type Row = TagDraft & { id: string }
const json = (rows: readonly Row[]) =>
  JSON.stringify(rows.map((r) => ({ id: r.id, source_id: r.sourceId, ...Object.fromEntries(written.map(([c, , property]) => [c, r[property]])) })))

const words = {
  tag_name: { field: 'name', message: 'Another tag has this name' },
  tag_group: { field: 'groupId', message: 'There is no such sampling group' },
}

/** Adds, changes and removes tags in one transaction: all or none. `each` hears how many rows are written. */
export async function editTags(db: Db, edit: TagEdit, each: (done: number, total: number) => void = () => undefined): Promise<TagEdited> {
  const total = edit.add.length + edit.change.length + edit.remove.length
  try {
    return await db.transaction().execute(async (tx) => {
      await sql`set constraints tag_name deferred`.execute(tx)
      const { before, after, added } = await prepare(tx, edit)
      let done = 0
      const told = (n: number) => each((done += n), total)
      for (let i = 0; i < edit.remove.length; i += CHUNK) {
        const ids = edit.remove.slice(i, i + CHUNK).map((r) => r.id)
        await sql`delete from tag where id = any(${ids}::uuid[])`.execute(tx)
        told(ids.length)
      }
      for (let i = 0; i < after.length; i += CHUNK) {
        const part = after.slice(i, i + CHUNK)
        await sql`update tag t set ${assigned}, version = t.version + 1
          from jsonb_to_recordset(${json(part)}::jsonb) as d(id uuid, ${typed}) where t.id = d.id`.execute(tx)
        told(part.length)
      }
      const handles = new Map<string, number>()
      for (let i = 0; i < added.length; i += CHUNK) {
        const part = added.slice(i, i + CHUNK)
        const made = await sql<{ id: string; handle: number }>`insert into tag (id, source_id, ${names})
          select d.id, d.source_id, ${picked} from jsonb_to_recordset(${json(part)}::jsonb) as d(id uuid, source_id uuid, ${typed})
          returning id, handle`.execute(tx)
        for (const m of made.rows) handles.set(m.id, m.handle)
        told(part.length)
      }
      await announce(tx, 'tag')
      const made = added.map((row): Tag => ({ ...row, handle: handles.get(row.id)!, version: 1 }))
      const changed = after.map((row): Tag => ({ ...row, version: before.get(row.id)!.version + 1 }))
      return { tags: [...made, ...changed], removed: edit.remove.map((r) => r.id), undo: undoOf(edit, before, made) }
    })
  } catch (e) {
    throw explain(e, words)
  }
}

/** The edit that takes this one back; refused like any other when somebody has changed the tags since. */
function undoOf(edit: TagEdit, before: ReadonlyMap<string, Tag>, made: readonly Tag[]): TagEdit {
  return {
    add: edit.remove.map(({ id }) => {
      const { handle: _h, version: _v, ...draft } = before.get(id)!
      return draft
    }),
    change: edit.change.map(({ id, version: _v, sourceId: _s, ...patch }) => {
      const was = before.get(id)!
      const old = Object.fromEntries(Object.keys(patch).map((k) => [k, was[k as keyof Tag]])) as TagChange
      return { ...old, id, version: was.version + 1 }
    }),
    remove: made.map((t) => ({ id: t.id, version: 1 })),
  }
}

interface Prepared {
  /** Tags that are changed or removed, as they are now, by id. */
  before: Map<string, Tag>
  /** The changed ones as they will be. */
  after: Tag[]
  added: Row[]
}

/** Checks everything before anything is written; throws with a message for each refused row: `change.3.address`. */
async function prepare(tx: Conn, edit: TagEdit): Promise<Prepared> {
  const fields: Record<string, string> = {}
  let newer = false
  let unknown = false
  const kinds = new Map((await tx.selectFrom('source').select(['id', 'kind']).execute()).map((s) => [s.id, s.kind]))
  const before = await lockTags(tx, [...edit.change.map((c) => c.id), ...edit.remove.map((r) => r.id)])
  const touched = new Set<string>()
  const known = (row: { id: string; version?: number | undefined }, path: string): Tag | null => {
    const now = before.get(row.id)
    if (!now) {
      fields[`${path}.id`] = 'There is no such tag'
      unknown = true
      return null
    }
    if (row.version !== undefined && row.version !== now.version) {
      fields[`${path}.version`] = `${now.name} was changed by somebody else meanwhile`
      newer = true
    }
    if (touched.has(row.id)) fields[`${path}.id`] = `${now.name} is there twice`
    touched.add(row.id)
    return now
  }
  for (const [i, r] of edit.remove.entries()) known(r, `remove.${i}`)
  const after: Tag[] = []
  const rows: { path: string; tag: Row; looked: boolean }[] = []
  const check = (tag: Row, path: string): Row => {
    const kind = kinds.get(tag.sourceId)
    for (const [property, message] of Object.entries(tagProblems(tag, kind))) fields[`${path}.${property}`] = message
    return kind ? stored(tag, kind) : tag
  }
  edit.change.forEach((row, i) => {
    const path = `change.${i}`
    const now = known(row, path)
    if (!now) return
    const { id: _i, version: _v, sourceId, ...patch } = row
    if (sourceId !== undefined && sourceId !== now.sourceId) fields[`${path}.sourceId`] = 'A tag stays with its source: add a new one there instead'
    const next = check({ ...now, ...patch }, path) as Tag
    after.push(next)
    rows.push({ path, tag: next, looked: next.name !== now.name || next.address !== now.address })
  })
  const added = edit.add.map((row, i) => {
    const draft = check({ ...row, id: row.id ?? newId() }, `add.${i}`)
    rows.push({ path: `add.${i}`, tag: draft, looked: true })
    return draft
  })
  const looked = rows.filter((r) => r.looked)
  twins(looked, kinds, fields)
  const kept = new Map<string, Tag | null>([...edit.remove.map((r) => [r.id, null] as const), ...after.map((t) => [t.id, t] as const)])
  await clashes(tx, looked, kinds, kept, fields)
  const used = await inUse(tx, edit, fields)
  const messages = Object.values(fields)
  if (messages.length > 0) {
    const one = messages.length === 1
    throw new FailureError(
      {
        code: newer ? 'tag.newer' : unknown ? 'tag.unknown' : used ? 'tag.used' : 'tags.refused',
        message: one
          ? messages[0]!
          : `${new Set(Object.keys(fields).map((f) => f.split('.').slice(0, 2).join('.'))).size} of ${rows.length + edit.remove.length} rows are refused`,
        hint: newer
          ? 'Look at it again, then repeat your change'
          : used
            ? 'Unbind it under Equipment first'
            : 'Correct or leave out the named rows; nothing was saved',
        where: 'tag',
        fields,
      },
      newer || !unknown ? 409 : 404,
    )
  }
  return { before, after, added }
}

type Kinds = ReadonlyMap<string, string>
const node = (t: Pick<Tag, 'sourceId' | 'address'>) => `${t.sourceId} ${t.address}`

/** Rows of the edit that want the same name or node. */
function twins(rows: readonly { path: string; tag: Row }[], kinds: Kinds, fields: Record<string, string>): void {
  const byName = new Map<string, number>()
  const byNode = new Map<string, number>()
  rows.forEach(({ path, tag }, i) => {
    const name = byName.get(tag.name)
    if (name !== undefined) fields[`${path}.name`] = `The same name as row ${name + 1}`
    byName.set(tag.name, i)
    if (kinds.get(tag.sourceId) === 'simulated') return
    const other = byNode.get(node(tag))
    if (other !== undefined) fields[`${path}.address`] = `The same node as row ${other + 1}`
    byNode.set(node(tag), i)
  })
}

/** Stored tags that have a wanted name or node and keep it. */
async function clashes(
  tx: Conn,
  looked: readonly { path: string; tag: Row }[],
  kinds: Kinds,
  /** What becomes of tags that the edit touches; null: removed. */
  kept: ReadonlyMap<string, Tag | null>,
  fields: Record<string, string>,
): Promise<void> {
  if (looked.length === 0) return
  const wanted = JSON.stringify(
    looked.map(({ tag: t }) => ({
      k: t.id,
      n: t.name,
      s: kinds.has(t.sourceId) ? t.sourceId : null,
      a: t.address,
      u: kinds.get(t.sourceId) !== 'simulated',
    })),
  )
  // Two joins, not one with an or: signals of simulated sources are alike by the thousand, and no clash.
  const found = await sql<{ i: number; by: 'name' | 'address' | 'id'; id: string; name: string; address: string }>`
    with d as (select (i - 1)::int as i, (v->>'k')::uuid as k, v->>'n' as n, (v->>'s')::uuid as s, v->>'a' as a, v->>'u' = 'true' as u
      from jsonb_array_elements(${wanted}::jsonb) with ordinality as e(v, i))
    select d.i, 'name' as by, t.id, t.name, t.address from d join tag t on t.name = d.n
    union all select d.i, 'address', t.id, t.name, t.address from d join tag t on d.u and t.source_id = d.s and t.address = d.a
    union all select d.i, 'id', t.id, t.name, t.address from d join tag t on t.id = d.k`.execute(tx)
  for (const c of found.rows) {
    const { path, tag } = looked[c.i]!
    const then = kept.get(c.id)
    const adds = path.startsWith('add.')
    if (then === null || (!adds && c.id === tag.id)) continue
    // It gives way in the same edit.
    if (then && (c.by === 'name' ? then.name !== c.name : c.by === 'address' && then.address !== c.address)) continue
    if (c.by === 'name') fields[`${path}.name`] = `${c.name} exists already`
    else if (c.by === 'address') fields[`${path}.address`] = `This node is tag ${c.name} already`
    else fields[`${path}.id`] = `This is tag ${c.name} already`
  }
}

/** Whether some of those to be removed fill members of equipment. */
async function inUse(tx: Conn, edit: TagEdit, fields: Record<string, string>): Promise<boolean> {
  if (edit.remove.length === 0) return false
  const places = new Map(edit.remove.map((r, i) => [r.id, i]))
  const used = await sql<{ id: string; tag: string; name: string; member: string }>`
    select t.id, t.name as tag, e.name, b.key as member from equipment e, jsonb_each(e.bindings) b
    join tag t on t.id::text = b.value->>'tagId' where t.id = any(${edit.remove.map((r) => r.id)}::uuid[])`.execute(tx)
  for (const u of used.rows) fields[`remove.${places.get(u.id)}.id`] = `${u.tag} fills ${u.member} of ${u.name}`
  return used.rows.length > 0
}

/** Renames the fields of a refused edit for callers that sent rows of one kind. */
async function renamed<T>(work: Promise<T>, from: RegExp, to: string): Promise<T> {
  try {
    return await work
  } catch (e) {
    if (!(e instanceof FailureError) || !e.failure.fields) throw e
    const fields = Object.fromEntries(Object.entries(e.failure.fields).map(([k, v]) => [k.replace(from, to), v]))
    throw new FailureError({ ...e.failure, fields }, e.status)
  }
}

/** Adds all or none; a refused row is named by its place: `tags.3.name`. */
export async function addTags(db: Db, input: readonly TagInput[]): Promise<Tag[]> {
  return (await renamed(editTags(db, { add: input.map((t) => TagDraft.parse(t)), change: [], remove: [] }), /^add\./, 'tags.')).tags
}

export async function changeTag(db: Db, id: string, change: TagChange): Promise<Tag> {
  return (await renamed(editTags(db, { add: [], change: [{ ...change, id }], remove: [] }), /^change\.0\./, '')).tags[0]!
}

/** Removes all or none: a tag that fills a member stays, and the answer names what uses it. */
export async function removeTags(db: Db, ids: readonly string[]): Promise<void> {
  await editTags(db, { add: [], change: [], remove: [...new Set(ids)].map((id) => ({ id })) })
}
