import { FailureError, fail } from '~/contract/failure'
import type { TagEdit, TagEditLine, TagImported } from '~/contract/tag'
import { outsideDifferences, renamedOutside } from '~/core/publication/outside'
import { surroundings, tagColumns } from '~/core/tag/columns'
import { flatten } from '~/core/tag/flat'
import { editOf, PlanError, planRows } from '~/core/tag/plan'
import { readBytes, writeText } from '~/core/tag/sheet'
import { loadWorld } from '~/store/freeze'
import { addGroup, changeGroup, listGroups, removeGroup } from '~/store/group'
import { addPattern, listPatterns, removePattern } from '~/store/pattern'
import { listPublications } from '~/store/publication'
import { listSources } from '~/store/source'
import { firstTags, getTag, listTags, tagsById, tagsOfEquipment, tagUse, usedTags } from '~/store/tag'
import { addTags, changeTag, editTags, removeTags } from '~/store/tag-edit'
import { database } from '../context'
import { type Handlers, refusal } from '../endpoint'
import { askEngine } from '../engine-client'

type Keys =
  | 'listTags'
  | 'usedTags'
  | 'addTags'
  | 'changeTag'
  | 'removeTags'
  | 'editTags'
  | 'exportTags'
  | 'importTags'
  | 'tagUse'
  | 'followTag'
  | 'tagNote'
  | 'writeTag'
  | 'tagValues'
  | 'tagStates'
  | 'renamedOutside'
  | 'editedOutside'
  | 'listPatterns'
  | 'addPattern'
  | 'removePattern'
  | 'listGroups'
  | 'addGroup'
  | 'changeGroup'
  | 'removeGroup'

/** So many differences are told of one edit. */
const OUTSIDE_MOST = 100

/** So many rows with something to say of are told of an import. */
const TOLD = 1000

const around = async () => {
  const [sources, groups] = await Promise.all([listSources(database()), listGroups(database())])
  return surroundings(sources, groups)
}

/**
 * Runs an edit and tells how far it is, a line each; what refuses it comes as the last line, since the answer has begun by
 * then. When the asker goes before it is done, nothing is saved.
 */
function editing(edit: TagEdit): Response {
  const text = new TextEncoder()
  let gone = false
  const body = new ReadableStream<Uint8Array>({
    async start(out) {
      const tell = (line: TagEditLine) => {
        if (!gone) out.enqueue(text.encode(`${JSON.stringify(line)}\n`))
      }
      const total = edit.add.length + edit.change.length + edit.remove.length
      try {
        const result = await editTags(database(), edit, (done) => {
          if (gone) throw fail(409, 'tags.stopped', 'Stopped', 'Nothing was saved', 'tag')
          tell({ done, total })
        })
        tell({ done: total, total, result })
      } catch (e) {
        tell({ done: 0, total, failure: e instanceof FailureError ? e.failure : ((await refusal(e).json()) as FailureError['failure']) })
      }
      if (!gone) out.close()
    },
    cancel() {
      gone = true
    },
  })
  return new Response(body, { headers: { 'content-type': 'application/x-ndjson', 'cache-control': 'no-store' } })
}

/** Lets other requests have their turn while many rows are planned. */
async function patiently<T>(steps: Generator<unknown, T>): Promise<T> {
  for (;;) {
    const step = steps.next()
    if (step.done) return step.value
    await new Promise((done) => setImmediate(done))
  }
}

async function importing(bytes: Uint8Array, apply: 'no' | 'good' | 'all'): Promise<TagImported> {
  try {
    const sheet = readBytes(bytes)
    const plan = await patiently(planRows({ ...sheet, tags: await listTags(database()), around: await around() }))
    const applied = apply === 'good' || (apply === 'all' && plan.counts.faulty === 0)
    if (applied && plan.counts.add + plan.counts.change > 0)
      await editTags(database(), { add: [], change: [], remove: [], ...editOf(plan.rows) } as TagEdit)
    const told = plan.rows.filter((r) => r.state === 'faulty' || r.state === 'change').slice(0, TOLD)
    return {
      encoding: sheet.encoding,
      separator: sheet.separator,
      decimal: sheet.decimal,
      counts: plan.counts,
      ignored: plan.ignored,
      rows: told.map(({ line, state, name, changes, faults }) => ({
        line,
        state: state as 'change' | 'faulty',
        name,
        changes: [...changes],
        faults: [...faults],
      })),
      applied,
    }
  } catch (e) {
    throw e instanceof PlanError ? fail(422, 'tags.unreadable', e.message, e.hint, 'tag') : e
  }
}

export const tagHandlers: Pick<Handlers, Keys> = {
  listTags: ({ query }) => {
    if (query.equipment) return tagsOfEquipment(database(), query.equipment)
    if (query.ids) return tagsById(database(), query.ids)
    return query.first === undefined ? listTags(database(), query.source) : firstTags(database(), query.first)
  },
  usedTags: () => usedTags(database()),
  addTags: ({ body }) => addTags(database(), body.tags),
  changeTag: ({ params, body }) => changeTag(database(), params.id!, body),
  removeTags: ({ body }) => removeTags(database(), body.ids),
  editTags: async ({ body }) => editing(body),
  exportTags: async () => {
    const [tags, names] = await Promise.all([listTags(database()), around()])
    const flats = tags.map((t) => flatten(t, names))
    const text = writeText(
      flats,
      tagColumns.map((c) => c.key),
      { separator: ',', decimal: '.' },
    )
    return new Response(text, {
      headers: { 'content-type': 'text/csv; charset=utf-8', 'cache-control': 'no-store', 'content-disposition': 'attachment; filename="tags.csv"' },
    })
  },
  importTags: ({ body, query }) => importing(body, query.apply),
  writeTag: async ({ params, body, caller }) => (await askEngine('/tags/write', { body: { ...body, id: params.id, who: caller.name } })).json(),
  tagNote: async ({ params }) => (await askEngine(`/note?tag=${(await getTag(database(), params.id!)).handle}`)).json(),
  tagUse: ({ params }) => tagUse(database(), params.id!),
  followTag: async ({ params, query, request }) => {
    const { handle } = await getTag(database(), params.id!)
    return (await askEngine('/journal/follow', { body: { handle, since: query.since }, signal: request.signal })).json()
  },
  tagValues: async ({ query }) => (await askEngine(`/values?tags=${encodeURIComponent(query.tags)}`)).json(),
  tagStates: async () =>
    new Response((await askEngine('/states')).body, { headers: { 'content-type': 'application/octet-stream', 'cache-control': 'no-store' } }),
  renamedOutside: async ({ body }) => {
    const [publications, world] = await Promise.all([listPublications(database()), loadWorld(database())])
    return renamedOutside(publications, world, new Map(body.names.map((n) => [n.id, n.name])))
  },
  editedOutside: async ({ params, body }) => {
    const tag = await getTag(database(), params.id!)
    const [use, all, world] = await Promise.all([tagUse(database(), tag.id), listPublications(database()), loadWorld(database())])
    const carrying = all.filter((p) => use.publications.some((u) => u.id === p.id))
    const { version: _version, ...change } = body
    const after = { ...world, tags: new Map(world.tags).set(tag.id, { ...tag, ...change }) }
    return {
      publications: carrying.map((p) => ({ name: p.name, live: p.state === 'live' })),
      differences: outsideDifferences(carrying, world, after).slice(0, OUTSIDE_MOST),
    }
  },
  listPatterns: () => listPatterns(database()),
  addPattern: ({ body }) => addPattern(database(), body),
  removePattern: ({ params }) => removePattern(database(), params.id!),
  listGroups: () => listGroups(database()),
  addGroup: ({ body }) => addGroup(database(), body),
  changeGroup: ({ params, body }) => changeGroup(database(), params.id!, body),
  removeGroup: ({ params }) => removeGroup(database(), params.id!),
}
