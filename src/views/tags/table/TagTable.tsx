import { useVirtualizer } from '@tanstack/react-virtual'
import { type KeyboardEvent, type MouseEvent, memo, type ReactNode, useCallback, useEffect, useRef, useState } from 'react'
import type { Tag } from '~/contract/tag'
import type { Surroundings } from '~/core/tag/columns'
import { isSeenKey } from '~/core/tag/seen'
import { live, useLiveValue } from '../../app/live/live'
import { Heads } from './Heads'
import { InlineEdit } from './InlineEdit'
import type { Columns, PlacedColumn } from './useColumns'

const ROW = 28
/** Heights of the headings and of their filters, with the lines under them. */
const HEAD = 28
const FILTERS = 28

interface Props {
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

/**
 * The table of tags for any number of rows: only what is on the screen is drawn. Arrows move a cell cursor, Shift and Ctrl
 * select rows, Enter or F2 edits the cell, Ctrl+C and Ctrl+V speak tab-separated text, Delete removes.
 */
export function TagTable(p: Props) {
  const { rows, columns, selected, onSelect, cursor, onCursor } = p
  const { placed } = columns
  const box = useRef<HTMLDivElement>(null)
  const grid = useRef<HTMLDivElement>(null)
  const [column, setColumn] = useState('name')
  const [editing, setEditing] = useState<{ id: string; column: string } | null>(null)
  const anchor = useRef(0)
  const at = useRef(0)
  // The headings stand in the same scroller, over the rows.
  const head = p.showFilters ? HEAD + FILTERS : HEAD
  const virtual = useVirtualizer({
    count: rows.length,
    getScrollElement: () => box.current,
    estimateSize: () => ROW,
    overscan: 4,
    scrollMargin: head,
    scrollPaddingStart: head,
  })
  const items = virtual.getVirtualItems()
  const first = items[0]?.index ?? 0
  const last = items.at(-1)?.index ?? -1
  const width = (placed.at(-1)?.left ?? 0) + (placed.at(-1)?.width ?? 0)

  // What is on the screen is asked for without drawing the page anew.
  const sparks = columns.shown('spark')
  useEffect(() => {
    live.want(live.table, { tags: rows.slice(first, last + 1).map((t) => t.handle), sparks })
  }, [first, last, rows, sparks])
  useEffect(() => () => live.want(live.table, null), [])

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
  const { mayEdit } = p
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
    [placed],
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
  }, [editing, show])

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

  const named = () => placed.flatMap((c) => (c.column.setting ? [c.column.id] : []))
  return (
    <div
      ref={grid}
      role="grid"
      aria-label="Tags"
      aria-rowcount={rows.length}
      aria-multiselectable
      tabIndex={0}
      onKeyDown={key}
      onCopy={(e) => {
        if (editing || selected.size === 0) return
        e.preventDefault()
        p.onCopy(
          rows.filter((t) => selected.has(t.id)),
          placed.flatMap(({ column: c }) => (c.setting || isSeenKey(c.id) ? [c.id] : [])),
        )
      }}
      onPaste={(e) => {
        if (editing || e.target instanceof HTMLInputElement || !mayEdit) return
        e.preventDefault()
        const from = named().slice(Math.max(0, named().indexOf(cellColumn ?? 'name')))
        p.onPaste(e.clipboardData.getData('text/plain'), { row: at.current, columns: from })
      }}
      className="flex min-h-0 flex-1 flex-col outline-none select-none focus-visible:outline-none"
    >
      <div ref={box} className="relative min-h-0 flex-1 overflow-auto" data-scroller>
        <div style={{ width, minWidth: '100%' }}>
          <Heads columns={columns} sort={p.sort} onSort={p.onSort} filters={p.filters} onFilter={p.onFilter} showFilters={p.showFilters} />
          {rows.length === 0 && <div className="sticky left-0 w-full">{p.empty}</div>}
          <div className="relative" style={{ height: virtual.getTotalSize() }}>
            {items.map((item) => {
              const tag = rows[item.index]!
              const edited = editing?.id === tag.id ? editing.column : null
              return (
                <RowOf
                  key={tag.id}
                  tag={tag}
                  index={item.index}
                  top={item.start - head}
                  placed={placed}
                  around={p.around}
                  chosen={selected.has(tag.id)}
                  cell={cursor === tag.id ? (cellColumn ?? null) : null}
                  edited={edited}
                  onClick={click}
                  onDoubleClick={doubled}
                  onEdited={(then) => {
                    setEditing(null)
                    grid.current?.focus({ preventScroll: true })
                    if (then === 'down') go(item.index + 1, false)
                    else if (then === 'right') sideways(1)
                  }}
                />
              )
            })}
          </div>
        </div>
      </div>
    </div>
  )
}

interface RowProps {
  tag: Tag
  index: number
  top: number
  placed: readonly PlacedColumn[]
  around: Surroundings
  chosen: boolean
  /** The column of the cell cursor, when it is in this row. */
  cell: string | null
  /** The column that is being edited here. */
  edited: string | null
  onClick(index: number, e: MouseEvent): void
  onDoubleClick(index: number, e: MouseEvent): void
  onEdited(then: 'stay' | 'down' | 'right'): void
}

const RowOf = memo(
  function RowOf({ tag, index, top, placed, around, chosen, cell, edited, onClick, onDoubleClick, onEdited }: RowProps) {
    const v = useLiveValue(tag.handle)
    return (
      // biome-ignore lint/a11y/useKeyWithClickEvents: the grid around it takes the keys
      <div
        role="row"
        aria-label={tag.name}
        aria-selected={chosen}
        aria-rowindex={index + 1}
        onClick={(e) => onClick(index, e)}
        onDoubleClick={(e) => onDoubleClick(index, e)}
        className={`group/row absolute left-0 flex w-full cursor-default border-b border-line/70 ${chosen ? 'bg-wash' : 'bg-paper hover:bg-well'}`}
        style={{ height: ROW, transform: `translateY(${top}px)` }}
      >
        {placed.map(({ column, left, width, pinned }) => (
          <div
            key={column.id}
            role="gridcell"
            data-column={column.id}
            className={`flex shrink-0 items-center overflow-hidden px-2 ${column.right ? 'justify-end' : ''} ${pinned ? `sticky z-[1] ${chosen ? 'bg-wash' : 'bg-paper group-hover/row:bg-well'}` : ''} ${cell === column.id ? 'outline-1 -outline-offset-1 outline-slate' : ''}`}
            style={pinned ? { width, left } : { width }}
          >
            {edited === column.id && column.setting ? (
              <InlineEdit tag={tag} column={column.setting} around={around} onDone={onEdited} />
            ) : column.cell ? (
              <span className="min-w-0 truncate">{column.cell(tag, v, around)}</span>
            ) : (
              <TextCell
                text={column.setting!.read(tag, around)}
                mono={column.right || column.id === 'address' || column.id === 'signal' || column.id === 'id'}
              />
            )}
          </div>
        ))}
      </div>
    )
  },
  (a, b) =>
    a.tag === b.tag &&
    a.index === b.index &&
    a.top === b.top &&
    a.placed === b.placed &&
    a.around === b.around &&
    a.chosen === b.chosen &&
    a.cell === b.cell &&
    a.edited === b.edited &&
    a.onClick === b.onClick &&
    a.onDoubleClick === b.onDoubleClick,
)

function TextCell({ text, mono }: { text: string; mono: boolean }) {
  return (
    <span
      className={`truncate ${mono ? 'font-mono text-[12.5px]' : ''} ${text === 'no' || text === 'nothing' ? 'text-muted' : ''}`}
      title={text.length > 12 ? text : undefined}
    >
      {text}
    </span>
  )
}
