import type { Virtualizer } from '@tanstack/react-virtual'
import {
  type ClipboardEvent,
  type KeyboardEvent,
  type MouseEvent,
  type ReactNode,
  type RefObject,
  useCallback,
  useEffect,
  useRef,
  useState,
} from 'react'
import type { Tag } from '~/contract/tag'
import type { Surroundings } from '~/core/tag/columns'
import { isSeenKey } from '~/core/tag/seen'
import { ROW } from './TagRow'
import type { Columns } from './useColumns'

export interface TagTableProps {
  rows: readonly Tag[]
  around: Surroundings
  columns: Columns
  mayEdit: boolean
  selected: ReadonlySet<string>
  onSelect(ids: Set<string>): void
  /** The tag under the cursor. */
  cursor: string | null
  onCursor(id: string): void
  sort: { column: string; desc: boolean } | null
  onSort(sort: { column: string; desc: boolean } | null): void
  filters: Readonly<Record<string, string>>
  onFilter(column: string, text: string): void
  showFilters: boolean
  onCopy(rows: readonly Tag[], columns: readonly string[]): void
  onPaste(text: string, at: { row: number; columns: readonly string[] }): void
  onRemove(): void
  empty: ReactNode
}

/** The cursor of a cell, what is selected, what is edited, and what keys and pointer do with them. `box` is what scrolls. */
export function useTableHands(p: TagTableProps, box: RefObject<HTMLDivElement | null>, virtual: Virtualizer<HTMLDivElement, Element>) {
  const { rows, selected, onSelect, cursor, onCursor, mayEdit } = p
  const { placed } = p.columns
  const [column, setColumn] = useState('name')
  const [editing, setEditing] = useState<{ id: string; column: string } | null>(null)
  const anchor = useRef(0)
  const at = useRef(0)
  // Where the cursor stands when rows come and go around it; a tag that was asked for is brought on the screen.
  const shownFor = useRef<string | null>(null)
  useEffect(() => {
    const index = cursor === null ? -1 : rows.findIndex((t) => t.id === cursor)
    if (index < 0) return
    at.current = index
    if (shownFor.current === cursor) return
    shownFor.current = cursor
    virtual.scrollToIndex(index)
  }, [rows, cursor, virtual])

  const idsBetween = (a: number, b: number) => new Set(rows.slice(Math.min(a, b), Math.max(a, b) + 1).map((t) => t.id))
  const cellColumn = placed.some((c) => c.column.id === column) ? column : (placed.find((c) => c.column.id === 'name') ?? placed[0])?.column.id

  const point = useCallback(
    (index: number) => {
      at.current = index
      const id = rows[index]!.id
      shownFor.current = id
      onCursor(id)
    },
    [rows, onCursor],
  )

  const click = useCallback(
    (index: number, e: MouseEvent) => {
      const cell = (e.target as HTMLElement).closest<HTMLElement>('[data-column]')?.dataset.column
      if (cell) setColumn(cell)
      point(index)
      const id = rows[index]!.id
      if (e.shiftKey) return onSelect(new Set(rows.slice(Math.min(anchor.current, index), Math.max(anchor.current, index) + 1).map((t) => t.id)))
      anchor.current = index
      if (e.ctrlKey || e.metaKey) {
        const next = new Set(selected)
        if (!next.delete(id)) next.add(id)
        return onSelect(next)
      }
      onSelect(new Set([id]))
    },
    [rows, selected, onSelect, point],
  )

  const edit = useCallback(
    (index: number, id: string | undefined) => {
      const c = placed.find((one) => one.column.id === id)?.column
      const row = rows[index]
      if (!row || !c?.setting || c.setting.property === null || c.setting.property === 'id' || c.setting.property === 'sourceId') return false
      setColumn(c.id)
      setEditing({ id: row.id, column: c.id })
      return true
    },
    [placed, rows],
  )
  const doubled = useCallback(
    (index: number, e: MouseEvent) => {
      if (mayEdit) edit(index, (e.target as HTMLElement).closest<HTMLElement>('[data-column]')?.dataset.column)
    },
    [mayEdit, edit],
  )

  const go = (index: number, keep: boolean) => {
    if (rows.length === 0) return
    const to = Math.min(rows.length - 1, Math.max(0, index))
    point(to)
    if (!keep) anchor.current = to
    onSelect(keep ? idsBetween(anchor.current, to) : new Set([rows[to]!.id]))
    virtual.scrollToIndex(to)
  }
  const show = useCallback(
    (id: string | undefined) => {
      const c = placed.find((one) => one.column.id === id)
      const scroller = box.current
      if (!scroller || !c || c.pinned) return
      const pinned = placed.filter((one) => one.pinned).reduce((w, one) => w + one.width, 0)
      if (c.left - scroller.scrollLeft < pinned) scroller.scrollLeft = c.left - pinned
      else if (c.left + c.width > scroller.scrollLeft + scroller.clientWidth) scroller.scrollLeft = c.left + c.width - scroller.clientWidth
    },
    [placed, box.current],
  )
  const sideways = (by: number) => {
    const i = placed.findIndex((c) => c.column.id === cellColumn)
    const next = placed[Math.min(placed.length - 1, Math.max(0, i + by))]
    if (!next) return
    setColumn(next.column.id)
    show(next.column.id)
  }
  // What is edited stays on the screen, also when the peek opens beside it and the table narrows.
  useEffect(() => {
    if (!editing || !box.current) return
    const watch = new ResizeObserver(() => show(editing.column))
    watch.observe(box.current)
    return () => watch.disconnect()
  }, [editing, show, box.current])

  const key = (e: KeyboardEvent) => {
    if (editing || e.target instanceof HTMLInputElement || e.target instanceof HTMLSelectElement || e.target instanceof HTMLButtonElement) return
    const ctrl = e.ctrlKey || e.metaKey
    const page = Math.max(1, Math.floor((box.current?.clientHeight ?? ROW) / ROW) - 1)
    const step = { ArrowDown: 1, ArrowUp: -1, PageDown: page, PageUp: -page }[e.key]
    if (ctrl && e.key === 'a') onSelect(new Set(rows.map((t) => t.id)))
    else if (step !== undefined) go(at.current + step, e.shiftKey)
    else if (e.key === 'Home' || (ctrl && e.key === 'ArrowUp')) go(0, e.shiftKey)
    else if (e.key === 'End' || (ctrl && e.key === 'ArrowDown')) go(rows.length - 1, e.shiftKey)
    else if (e.key === 'ArrowLeft' || e.key === 'ArrowRight') sideways(e.key === 'ArrowLeft' ? -1 : 1)
    else if (e.key === ' ' && rows[at.current]) {
      const next = new Set(selected)
      if (!next.delete(rows[at.current]!.id)) next.add(rows[at.current]!.id)
      onSelect(next)
    } else if ((e.key === 'Enter' || e.key === 'F2') && mayEdit) edit(at.current, cellColumn)
    else if (e.key === 'Delete' && mayEdit && selected.size > 0) p.onRemove()
    else return
    e.preventDefault()
  }

  const copy = (e: ClipboardEvent) => {
    if (editing || selected.size === 0) return
    e.preventDefault()
    p.onCopy(
      rows.filter((t) => selected.has(t.id)),
      placed.flatMap(({ column: c }) => (c.setting || isSeenKey(c.id) ? [c.id] : [])),
    )
  }
  const paste = (e: ClipboardEvent) => {
    if (editing || e.target instanceof HTMLInputElement || !mayEdit) return
    e.preventDefault()
    const named = placed.flatMap((c) => (c.column.setting ? [c.column.id] : []))
    const from = named.slice(Math.max(0, named.indexOf(cellColumn ?? 'name')))
    p.onPaste(e.clipboardData.getData('text/plain'), { row: at.current, columns: from })
  }
  return {
    cellColumn,
    /** The column of a tag that is edited where it stands. */
    editedIn: (tag: Tag) => (editing?.id === tag.id ? editing.column : null),
    click,
    doubled,
    key,
    copy,
    paste,
    edited: (index: number, then: 'stay' | 'down' | 'right') => {
      setEditing(null)
      if (then === 'down') go(index + 1, false)
      else if (then === 'right') sideways(1)
    },
  }
}
