import { useEffect, useMemo, useState } from 'react'
import type { Tag } from '~/contract/tag'
import { columnIndex, type Surroundings, tagColumns } from '~/core/tag/columns'
import { editOf } from '~/core/tag/plan'
import { failureIn } from '../../app/api'
import { useKept } from '../../shared/kept'
import { useWork } from '../../shared/useWork'
import { tagEdits } from '../edit/edits'
import { planCells } from '../edit/single'
import { conflictsIn, type TypedCells, withCell } from './typed'

export const columnOf = (key: string) => tagColumns[columnIndex.get(key)!]!

const nothing: TypedCells = { typed: {}, was: {} }

/** What is typed into the properties of one tag: kept over leaving, checked while it is typed, saved together. */
export function useProperties(tag: Tag, around: Surroundings) {
  const { found, keep } = useKept<TypedCells>(`tag ${tag.id}`, nothing)
  const [cells, setCells] = useState<TypedCells>(found?.draft ?? nothing)
  const [keptAt, setKeptAt] = useState(found?.at ?? null)
  const [refused, setRefused] = useState<Record<string, string>>({})
  const { busy, run } = useWork((_, thrown) => {
    setRefused(refusals(thrown))
    return true
  })
  const read = (key: string) => columnOf(key).read(tag, around)
  const planned = useMemo(() => planCells(tag, cells.typed, around), [tag, cells, around])
  const faults: Record<string, string> = { ...Object.fromEntries(planned.faults.map((f) => [f.column, f.reason])), ...refused }
  const dirty = Object.keys(cells.typed).length > 0
  useEffect(() => keep(dirty ? { draft: cells, version: tag.version } : null), [cells, dirty, keep, tag.version])
  const put = (next: TypedCells) => {
    setCells(next)
    setRefused({})
  }
  const forget = () => {
    put(nothing)
    setKeptAt(null)
  }
  return {
    /** The text of a column as it would be. */
    cell: (key: string) => cells.typed[key] ?? read(key),
    changed: Object.keys(cells.typed),
    planned,
    faults,
    dirty,
    busy,
    keptAt: dirty ? keptAt : null,
    set: (key: string, text: string) => put(withCell(cells, key, text, read(key))),
    /** These columns as they are stored. */
    revert: (keys: readonly string[]) => put(keys.reduce((all, key) => withCell(all, key, read(key), read(key)), cells)),
    forget,
    conflicts: conflictsIn(cells, read),
    takeMine: () => setCells({ typed: cells.typed, was: Object.fromEntries(Object.keys(cells.typed).map((key) => [key, read(key)])) }),
    takeTheirs: () => {
      const theirs = conflictsIn(cells, read).map((c) => c.path)
      put(theirs.reduce((all, key) => withCell(all, key, read(key), read(key)), cells))
    },
    async save(): Promise<boolean> {
      if (planned.state === 'faulty') return false
      if (planned.state === 'same') {
        forget()
        return true
      }
      return run(async () => {
        await tagEdits.apply(editOf([planned]), `${tag.name} changed`)
        forget()
      })
    },
  }
}

export type Properties = ReturnType<typeof useProperties>

/** What the server refused, by column. */
function refusals(e: unknown): Record<string, string> {
  const failure = failureIn(e)
  const own = Object.entries(failure.fields ?? {}).map(([field, reason]) => [field.split('.').at(-1) === 'address' ? 'address' : 'name', reason])
  return own.length > 0 ? Object.fromEntries(own) : { name: failure.message }
}
