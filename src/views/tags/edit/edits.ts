import { FailureError } from '~/contract/failure'
import type { Tag, TagEdited, TagEditInput, TagEditLine } from '~/contract/tag'
import { callStream, queryClient, refresh } from '../../app/api'
import { Edits } from '../../shared/undo'

/** The version that each tag got by the last edit from here: who changed it afterwards was somebody else. */
const mine = new Map<string, number>()

const KEY = ['listTags', null, null]

/** Edits of tags. */
export const tagEdits = new Edits<TagEditInput, TagEdited>({
  async send(edit, each, signal) {
    let last: TagEditLine | null = null
    await callStream('editTags', { body: edit, ...(signal && { signal }) }, (line) => {
      last = line
      if (!line.result && !line.failure) each?.({ done: line.done, total: line.total })
    })
    const line = last as TagEditLine | null
    if (line?.failure) throw new FailureError({ code: 'tags.refused', where: 'tag', ...line.failure }, 409)
    if (!line?.result)
      throw new FailureError(
        { code: 'web.away', message: 'The answer broke off', hint: 'Look whether it was done, then try again', where: 'web' },
        503,
      )
    return line.result
  },
  // So that 50,000 tags need not be read again for one.
  merge(edited) {
    for (const t of edited.tags) mine.set(t.id, t.version)
    queryClient.setQueryData<Tag[]>(KEY, (list) => {
      if (!list) return list
      const changed = new Map(edited.tags.map((t) => [t.id, t]))
      const removed = new Set(edited.removed)
      const out: Tag[] = []
      for (const t of list) {
        if (removed.has(t.id)) continue
        const now = changed.get(t.id)
        out.push(now ?? t)
        if (now) changed.delete(t.id)
      }
      return [...out, ...changed.values()]
    })
    void refresh('tagUse', 'usedTags', 'listSources', 'listGroups')
  },
  current(edit) {
    const now = <T extends { id: string; version?: number | undefined }>(row: T): T => ({ ...row, version: mine.get(row.id) ?? row.version })
    return { add: edit.add ?? [], change: (edit.change ?? []).map(now), remove: (edit.remove ?? []).map(now) }
  },
  rows: (e) => (e.add?.length ?? 0) + (e.change?.length ?? 0) + (e.remove?.length ?? 0),
})
