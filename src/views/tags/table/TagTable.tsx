import { useVirtualizer } from '@tanstack/react-virtual'
import { useEffect, useRef } from 'react'
import { live } from '../../app/live/live'
import { Heads } from './Heads'
import { ROW, TagRow } from './TagRow'
import { type TagTableProps, useTableHands } from './useTableHands'

/** Heights of the headings and of their filters, with the lines under them. */
const HEAD = 28
const FILTERS = 28

/**
 * The table of tags for any number of rows: only what is on the screen is drawn. Arrows move a cell cursor, Shift and Ctrl
 * select rows, Enter or F2 edits the cell, Ctrl+C and Ctrl+V speak tab-separated text, Delete removes.
 */
export function TagTable(p: TagTableProps) {
  const { rows, columns, selected, cursor } = p
  const { placed } = columns
  const box = useRef<HTMLDivElement>(null)
  const grid = useRef<HTMLDivElement>(null)
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

  const hands = useTableHands(p, box, virtual)
  const { cellColumn } = hands
  return (
    <div
      ref={grid}
      role="grid"
      aria-label="Tags"
      aria-rowcount={rows.length}
      aria-multiselectable
      tabIndex={0}
      onKeyDown={hands.key}
      onCopy={hands.copy}
      onPaste={hands.paste}
      className="flex min-h-0 flex-1 flex-col outline-none select-none focus-visible:outline-none"
    >
      <div ref={box} className="relative min-h-0 flex-1 overflow-auto" data-scroller>
        <div style={{ width, minWidth: '100%' }}>
          <Heads columns={columns} sort={p.sort} onSort={p.onSort} filters={p.filters} onFilter={p.onFilter} showFilters={p.showFilters} />
          {rows.length === 0 && <div className="sticky left-0 w-full">{p.empty}</div>}
          <div className="relative" style={{ height: virtual.getTotalSize() }}>
            {items.map((item) => {
              const tag = rows[item.index]!
              return (
                <TagRow
                  key={tag.id}
                  tag={tag}
                  index={item.index}
                  top={item.start - head}
                  placed={placed}
                  around={p.around}
                  chosen={selected.has(tag.id)}
                  cell={cursor === tag.id ? (cellColumn ?? null) : null}
                  edited={hands.editedIn(tag)}
                  onClick={hands.click}
                  onDoubleClick={hands.doubled}
                  onEdited={(then) => {
                    grid.current?.focus({ preventScroll: true })
                    hands.edited(item.index, then)
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
