import { type RawBuilder, sql } from 'kysely'
import { FailureError } from '~/contract/failure'
import { newId } from '~/contract/id'
import { type Tag, type TagChange, TagDraft, type TagEdit, type TagEdited, type TagInput } from '~/contract/tag'
import { checkAddress } from '~/core/source/address'
import { tagProblems } from '~/core/tag/check'
import { announce, type Conn, type Db, explain } from './database'
import { filledBy } from './equipment'
import { lockTags } from './tag'
import { transacted } from './transacted'

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
const assigned = sql.raw(written.map(([c]) => `${c} = d.${c}`).join(', '))
const picked = sql.raw(written.map(([c]) => `d.${c}`).join(', '))

type Row = TagDraft & { id: string }

/**
 * Rows as a table of the database, `d`: an array a column, which it reads several times as fast as JSON. A column in which all
 * rows hold the same, as most do that were filled down, goes as one value.
 */
function table(rows: readonly Row[]) {
  const arrays: RawBuilder<unknown>[] = [sql`${rows.map((r) => r.id)}::uuid[]`]
  const named = ['id']
  const single: RawBuilder<unknown>[] = [sql`d.id`]
  for (const [column, type, property] of [['source_id', 'uuid', 'sourceId'] as const, ...written]) {
    const text = (value: unknown) => (value === null ? null : type === 'jsonb' ? JSON.stringify(value) : String(value))
    const first = rows[0]?.[property] ?? null
    const firstText = text(first)
    let texts: (string | null)[] | null = null
    for (let i = 1; i < rows.length; i++) {
      const value = rows[i]![property]
      if (texts) texts.push(text(value))
      else if (value !== first && text(value) !== firstText) {
        texts = new Array<string | null>(i).fill(firstText)
        texts.push(text(value))
      }
    }
    if (!texts) single.push(sql`${firstText}::text::${sql.raw(type)}`)
    else {
      single.push(sql.raw(`d.${column}`))
      arrays.push(sql`${texts}::text[]::${sql.raw(`${type}[]`)}`)
      named.push(column)
    }
  }
  return sql`(select ${sql.join(single)} from unnest(${sql.join(arrays)}) as d(${sql.raw(named.join(', '))})) as d(id, source_id, ${names})`
}

const words = {
  tag_name: { field: 'name', message: 'Another tag has this name' },
  tag_group: { field: 'groupId', message: 'There is no such sampling group' },
}

/** Adds, changes and removes tags in one transaction: all or none. `each` hears how many rows are written. */
export async function editTags(db: Db, edit: TagEdit, each: (done: number, total: number) => void = () => undefined): Promise<TagEdited> {
  const total = edit.add.length + edit.change.length + edit.remove.length
  try {
    return await transacted(db, async (tx) => {
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
          from ${table(part)} where t.id = d.id`.execute(tx)
        told(part.length)
      }
      const handles = new Map<string, number>()
      let next = table(added.slice(0, CHUNK))
      for (let i = 0; i < added.length; i += CHUNK) {
        const part = added.slice(i, i + CHUNK)
        const writing = sql<{ id: string; handle: number }>`insert into tag (id, source_id, ${names})
          select d.id, d.source_id, ${picked} from ${next}
          returning id, handle`.execute(tx)
        // Made ready while the database works on the one before.
        next = table(added.slice(i + CHUNK, i + 2 * CHUNK))
        const made = await writing
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
    const problems = tagProblems(tag, kind, true)
    const address = kind && checkAddress(kind, tag.address)
    if (address && 'problem' in address) problems.address = address.problem
    else if (address) tag.address = address.address
    for (const property in problems) fields[`${path}.${property}`] = problems[property as keyof typeof problems]!
    return tag
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
  const kept = new Map<string, Tag | null>([...edit.remove.map((r) => [r.id, null] as const), ...after.map((t) => [t.id, t] as const)])
  await clashes(tx, looked, kinds, kept, fields)
  const used = await inUse(tx, edit, before, fields)
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

/** A row whose name or node is new. */
interface Looked {
  path: string
  tag: Row
}
interface Slim {
  id: string
  name: string
  sourceId: string
  address: string
}

/** Names and nodes that another row of the edit, or a stored tag that keeps them, has already. */
async function clashes(
  tx: Conn,
  looked: readonly Looked[],
  kinds: Kinds,
  /** What becomes of tags that the edit touches; null: removed. */
  kept: ReadonlyMap<string, Tag | null>,
  fields: Record<string, string>,
): Promise<void> {
  if (looked.length === 0) return
  const names = new Map<string, number>()
  const nodes = new Map<string, number>()
  const ids = new Map<string, number>()
  looked.forEach(({ path, tag }, i) => {
    const name = names.get(tag.name)
    if (name === undefined) names.set(tag.name, i)
    else fields[`${path}.name`] = `The same name as row ${name + 1}`
    ids.set(tag.id, i)
    if (kinds.get(tag.sourceId) === 'simulated') return
    const key = node(tag)
    const other = nodes.get(key)
    if (other === undefined) nodes.set(key, i)
    else fields[`${path}.address`] = `The same node as row ${other + 1}`
  })
  const slim = sql`select id, name, source_id as "sourceId", address from tag`
  // A few are found by their indexes; of many, reading all names once is faster than looking up each.
  const stored = await (looked.length > 2000
    ? sql<Slim>`${slim}`
    : sql<Slim>`${slim} where name = any(${looked.map((r) => r.tag.name)}) or id = any(${looked.map((r) => r.tag.id)}::uuid[])
        or (source_id, address) in (select s::uuid, a from unnest(${looked.map((r) => (kinds.has(r.tag.sourceId) ? r.tag.sourceId : null))}::text[],
          ${looked.map((r) => r.tag.address)}::text[]) as w(s, a))`
  ).execute(tx)
  const told = (i: number | undefined, by: 'name' | 'address' | 'id', of: Slim) => {
    if (i === undefined) return
    const { path, tag } = looked[i]!
    const adds = path.startsWith('add.')
    const then = kept.get(of.id)
    if (then === null || (!adds && of.id === tag.id)) return
    // It gives way in the same edit.
    if (then && (by === 'name' ? then.name !== of.name : by === 'address' && then.address !== of.address)) return
    if (by === 'name') fields[`${path}.name`] = `${of.name} exists already`
    else if (by === 'address') fields[`${path}.address`] = `This node is tag ${of.name} already`
    else if (adds) fields[`${path}.id`] = `This is tag ${of.name} already`
  }
  for (const of of stored.rows) {
    told(names.get(of.name), 'name', of)
    told(nodes.get(node(of)), 'address', of)
    told(ids.get(of.id), 'id', of)
  }
}

/** Whether some of those to be removed fill members of equipment. */
async function inUse(tx: Conn, edit: TagEdit, before: ReadonlyMap<string, Tag>, fields: Record<string, string>): Promise<boolean> {
  if (edit.remove.length === 0) return false
  const places = new Map(edit.remove.map((r, i) => [r.id, i]))
  const used = await filledBy(
    tx,
    'tagId',
    edit.remove.map((r) => r.id),
  )
  for (const u of used) fields[`remove.${places.get(u.by)}.id`] = `${before.get(u.by)?.name} fills ${u.member} of ${u.name}`
  return used.length > 0
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
