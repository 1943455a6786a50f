import { useSyncExternalStore } from 'react'
import { toast } from 'sonner'
import { FailureError } from '~/contract/failure'
import type { Tag, TagEdited, TagEditInput, TagEditLine } from '~/contract/tag'
import { countText } from '~/ui/time'
import { callStream, failureIn, queryClient, refresh } from '../../app/api'

/** Something that was done to tags, with the edit that takes it back. */
interface Done {
  label: string
  undo: TagEditInput
}

interface Stacks {
  undo: readonly Done[]
  redo: readonly Done[]
  busy: boolean
}

const KEPT = 100
let stacks: Stacks = { undo: [], redo: [], busy: false }
const listeners = new Set<() => void>()
function set(next: Partial<Stacks>): void {
  stacks = { ...stacks, ...next }
  for (const l of listeners) l()
}
const subscribe = (l: () => void) => {
  listeners.add(l)
  return () => {
    listeners.delete(l)
  }
}

/** What can be undone and redone on this page now. */
export const useEdits = () =>
  useSyncExternalStore(
    subscribe,
    () => stacks,
    () => stacks,
  )

/** The version that each tag got by the last edit from here: who changed it afterwards was somebody else. */
const mine = new Map<string, number>()

const KEY = ['listTags', null, null]

/** Puts what an edit did into the list that the page has, so that 50,000 tags need not be read again for one. */
function merge(edited: TagEdited): void {
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
  void refresh('tagUse', 'listSources', 'listGroups')
}

export interface Progress {
  done: number
  total: number
}

/** Sends an edit; rejects with a FailureError, or an AbortError when it was stopped, with nothing saved. */
async function send(edit: TagEditInput, each?: (p: Progress) => void, signal?: AbortSignal): Promise<TagEdited> {
  let last: TagEditLine | null = null
  await callStream('editTags', { body: edit, ...(signal && { signal }) }, (line) => {
    last = line
    if (!line.result && !line.failure) each?.({ done: line.done, total: line.total })
  })
  const line = last as TagEditLine | null
  if (line?.failure) throw new FailureError({ code: 'tags.refused', where: 'tag', ...line.failure }, 409)
  if (!line?.result)
    throw new FailureError({ code: 'web.away', message: 'The answer broke off', hint: 'Look whether it was done, then try again', where: 'web' }, 503)
  return line.result
}

/** Does an edit and remembers how to take it back. */
export async function applyEdit(edit: TagEditInput, label: string, each?: (p: Progress) => void, signal?: AbortSignal): Promise<TagEdited> {
  set({ busy: true })
  try {
    const edited = await send(edit, each, signal)
    merge(edited)
    set({ undo: [...stacks.undo.slice(1 - KEPT), { label, undo: edited.undo }], redo: [] })
    return edited
  } finally {
    set({ busy: false })
  }
}

/** As `applyEdit`, and tells what was done with a way back, or what went wrong. True: it was done. */
export async function editAndTell(edit: TagEditInput, label: string): Promise<boolean> {
  try {
    await applyEdit(edit, label)
    toast(label, { action: { label: 'Undo', onClick: () => void undo() } })
    return true
  } catch (e) {
    toast.error(failureIn(e).message, { description: failureIn(e).hint })
    return false
  }
}

/** An edit whose tags must be as the last edit from here left them. */
function current(edit: TagEditInput): TagEditInput {
  const now = <T extends { id: string; version?: number | undefined }>(row: T): T => ({ ...row, version: mine.get(row.id) ?? row.version })
  return { add: edit.add ?? [], change: (edit.change ?? []).map(now), remove: (edit.remove ?? []).map(now) }
}

async function step(from: 'undo' | 'redo'): Promise<void> {
  const done = stacks[from].at(-1)
  if (!done || stacks.busy) return
  const to = from === 'undo' ? 'redo' : 'undo'
  const rows = (done.undo.add?.length ?? 0) + (done.undo.change?.length ?? 0) + (done.undo.remove?.length ?? 0)
  set({ busy: true, [from]: stacks[from].slice(0, -1) })
  const id = rows > 2000 ? toast.loading(`${from === 'undo' ? 'Taking back' : 'Doing again'}: ${done.label}`) : undefined
  try {
    const edited = await send(current(done.undo), (p) => {
      if (id !== undefined) toast.loading(`${done.label}: ${countText(p.done)} of ${countText(p.total)}`, { id })
    })
    merge(edited)
    set({ [to]: [...stacks[to], { label: done.label, undo: edited.undo }] })
    toast(`${from === 'undo' ? 'Taken back' : 'Done again'}: ${done.label}`, {
      id,
      ...(from === 'undo' && { action: { label: 'Redo', onClick: () => void redo() } }),
    })
  } catch (e) {
    const f = failureIn(e)
    // Tried again it may work when only the line was down; what was refused stays refused.
    if (e instanceof FailureError && e.status >= 500) set({ [from]: [...stacks[from], done] })
    toast.error(`${f.message}, so this cannot be ${from === 'undo' ? 'taken back' : 'done again'}: ${done.label}`, { id, description: f.hint })
  } finally {
    set({ busy: false })
  }
}

export const undo = () => step('undo')
export const redo = () => step('redo')
