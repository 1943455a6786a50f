import { sql } from 'kysely'
import { FailureError, fail } from '~/contract/failure'
import { newId } from '~/contract/id'
import { type Tag, type TagChange, TagDraft, type TagInput, type TagUse } from '~/contract/tag'
import { checkAddress } from '~/core/source/address'
import { parseSignal } from '~/core/source/signal'
import { announce, type Conn, type Db, explain } from './database'

const columns = [
  'id',
  'handle',
  'name',
  'source_id as sourceId',
  'address',
  'data_type as dataType',
  'unit',
  'description',
  'deadband',
  'range',
  'access',
  'sample_ms as sampleMs',
  'signal',
  'simulated',
  'version',
] as const

const words = {
  tag_name: { field: 'name', message: 'Another tag has this name' },
}

/** What is wrong with a tag's signal; one that isn't simulated need not have any. */
function signalProblem(t: Pick<Tag, 'signal' | 'simulated'>): string | null {
  if (t.signal === '') return t.simulated ? 'Which signal stands in?' : null
  const parsed = parseSignal(t.signal)
  if ('problem' in parsed) return parsed.problem
  return parsed.kind === 'replay' ? 'Only a simulated source has a recording to replay' : null
}

export async function listTags(db: Conn, ids?: readonly string[]): Promise<Tag[]> {
  let query = db.selectFrom('tag').select(columns).orderBy('handle')
  if (ids) query = query.where('id', 'in', ids.length > 0 ? [...ids] : ['00000000-0000-0000-0000-000000000000'])
  return query.execute()
}

export async function getTag(db: Conn, id: string): Promise<Tag> {
  const tag = await db.selectFrom('tag').select(columns).where('id', '=', id).executeTakeFirst()
  if (!tag) throw fail(404, 'tag.unknown', 'There is no such tag', 'It may have been removed: refresh the table', 'tag')
  return tag
}

/** Adds all or none; a refused row is named by its place: `tags.3.name`. */
export async function addTags(db: Db, input: readonly TagInput[]): Promise<Tag[]> {
  const fields: Record<string, string> = {}
  const kinds = new Map((await db.selectFrom('source').select(['id', 'kind']).execute()).map((s) => [s.id, s.kind]))
  const drafts = input.map((one, i): TagDraft => {
    const draft = TagDraft.parse(one)
    const kind = kinds.get(draft.sourceId)
    if (!kind) {
      fields[`tags.${i}.sourceId`] = 'There is no such source'
      return draft
    }
    const checked = checkAddress(kind, draft.address)
    if ('problem' in checked) fields[`tags.${i}.address`] = checked.problem
    const signal = signalProblem(draft)
    if (signal) fields[`tags.${i}.signal`] = signal
    return 'problem' in checked ? draft : { ...draft, address: checked.address }
  })
  const names = new Map<string, number>()
  const addresses = new Map<string, number>()
  drafts.forEach((d, i) => {
    if (names.has(d.name)) fields[`tags.${i}.name`] = `The same name as row ${names.get(d.name)! + 1}`
    names.set(d.name, i)
    const key = `${d.sourceId} ${d.address}`
    if (addresses.has(key) && kinds.get(d.sourceId) !== 'simulated') fields[`tags.${i}.address`] = `The same node as row ${addresses.get(key)! + 1}`
    addresses.set(key, i)
  })
  return db.transaction().execute(async (tx) => {
    const json = JSON.stringify(drafts.map((d) => ({ n: d.name, s: d.sourceId, a: d.address, u: kinds.get(d.sourceId) !== 'simulated' })))
    // Two joins, not one with an or: signals of simulated sources are alike by the thousand, and no clash.
    const clashes = await sql<{ i: number; by: string; name: string }>`
      with d as (select (i - 1)::int as i, v->>'n' as n, (v->>'s')::uuid as s, v->>'a' as a, v->>'u' = 'true' as u
        from jsonb_array_elements(${json}::jsonb) with ordinality as e(v, i))
      select d.i, 'name' as by, t.name from d join tag t on t.name = d.n
      union all select d.i, 'address', t.name from d join tag t on d.u and t.source_id = d.s and t.address = d.a`.execute(tx)
    for (const c of clashes.rows) fields[`tags.${c.i}.${c.by}`] = c.by === 'name' ? `${c.name} exists already` : `This node is tag ${c.name} already`
    const count = Object.keys(fields).length
    if (count > 0)
      throw new FailureError(
        {
          code: 'tags.refused',
          message: count === 1 ? Object.values(fields)[0]! : `${count} of ${drafts.length} rows cannot be added`,
          hint: 'Correct or leave out the named rows; nothing was added',
          where: 'tag',
          fields,
        },
        409,
      )
    const ids: string[] = []
    for (let i = 0; i < drafts.length; i += 2000) {
      const part = drafts.slice(i, i + 2000).map((d) => ({
        id: newId(),
        name: d.name,
        source_id: d.sourceId,
        address: d.address,
        data_type: d.dataType,
        unit: d.unit,
        description: d.description,
        deadband: d.deadband ? JSON.stringify(d.deadband) : null,
        range: d.range ? JSON.stringify(d.range) : null,
        access: d.access,
        sample_ms: d.sampleMs,
        signal: d.signal,
        simulated: d.simulated,
      }))
      ids.push(...part.map((p) => p.id))
      await tx.insertInto('tag').values(part).execute()
    }
    await announce(tx, 'tag')
    return listTags(tx, ids)
  })
}

export async function changeTag(db: Db, id: string, change: TagChange): Promise<Tag> {
  try {
    return await db.transaction().execute(async (tx) => {
      const now = await getTag(tx, id)
      if (change.version !== undefined && change.version !== now.version)
        throw fail(409, 'tag.newer', `${now.name} was changed by somebody else meanwhile`, 'Look at it again, then repeat your change', 'tag')
      const wrong = signalProblem({ ...now, ...change })
      if (wrong)
        throw new FailureError({ code: 'tag.signal', message: wrong, hint: 'Correct the signal', where: 'tag', fields: { signal: wrong } }, 422)
      let address: string | undefined
      if (change.address !== undefined) {
        const source = await tx.selectFrom('source').select('kind').where('id', '=', now.sourceId).executeTakeFirstOrThrow()
        const checked = checkAddress(source.kind, change.address)
        if ('problem' in checked)
          throw new FailureError(
            { code: 'tag.address', message: checked.problem, hint: 'Correct the address', where: 'tag', fields: { address: checked.problem } },
            422,
          )
        address = checked.address
        const twin = await tx
          .selectFrom('tag')
          .select('name')
          .where('source_id', '=', now.sourceId)
          .where('address', '=', address)
          .where('id', '<>', id)
          .executeTakeFirst()
        if (twin && source.kind !== 'simulated') {
          const message = `This address is tag ${twin.name} already`
          throw new FailureError(
            { code: 'tag.address', message, hint: 'Change or remove that one first', where: 'tag', fields: { address: message } },
            409,
          )
        }
      }
      await tx
        .updateTable('tag')
        .set((q) => ({
          ...(change.name !== undefined && { name: change.name }),
          ...(change.unit !== undefined && { unit: change.unit }),
          ...(change.description !== undefined && { description: change.description }),
          ...(change.dataType !== undefined && { data_type: change.dataType }),
          ...(address !== undefined && { address }),
          ...(change.range !== undefined && { range: change.range ? JSON.stringify(change.range) : null }),
          ...(change.access !== undefined && { access: change.access }),
          ...(change.sampleMs !== undefined && { sample_ms: change.sampleMs }),
          ...(change.signal !== undefined && { signal: change.signal }),
          ...(change.simulated !== undefined && { simulated: change.simulated }),
          ...(change.deadband !== undefined && { deadband: change.deadband ? JSON.stringify(change.deadband) : null }),
          version: q('version', '+', 1),
        }))
        .where('id', '=', id)
        .execute()
      await announce(tx, 'tag')
      return getTag(tx, id)
    })
  } catch (e) {
    throw explain(e, words)
  }
}

/** Which equipment and publications would notice if this tag went. */
export async function tagUse(db: Conn, id: string): Promise<TagUse> {
  const equipment = await sql<{ id: string; name: string; member: string }>`
    select e.id, e.name, b.key as member from equipment e, jsonb_each(e.bindings) b
    where b.value->>'tagId' = ${id} order by e.name`.execute(db)
  const ids = equipment.rows.map((e) => e.id)
  const publications =
    ids.length === 0
      ? { rows: [] }
      : await sql<{ id: string; name: string }>`
        select id, name from publication where draft->'equipmentIds' ?| array[${sql.join(ids)}]::text[] order by name`.execute(db)
  return { equipment: equipment.rows, publications: publications.rows }
}

/** Removes all or none: a tag that fills a member stays, and the answer names what uses it. */
export async function removeTags(db: Db, ids: readonly string[]): Promise<void> {
  await db.transaction().execute(async (tx) => {
    const used = await sql<{ tag: string; name: string; member: string }>`
      select t.name as tag, e.name, b.key as member from equipment e, jsonb_each(e.bindings) b
      join tag t on t.id::text = b.value->>'tagId'
      where b.value->>'tagId' = any(array[${sql.join([...ids])}]::text[]) limit 5`.execute(tx)
    const first = used.rows[0]
    if (first) throw fail(409, 'tag.used', `${first.tag} fills ${first.member} of ${first.name}`, 'Unbind it under Equipment first', 'tag')
    await tx
      .deleteFrom('tag')
      .where('id', 'in', [...ids])
      .execute()
    await announce(tx, 'tag')
  })
}
