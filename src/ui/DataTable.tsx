import {
  createSortedRowModel,
  rowSortingFeature,
  type SortingState,
  sortFn_alphanumeric,
  sortFn_basic,
  tableFeatures,
  useTable,
} from '@tanstack/react-table'
import { useVirtualizer } from '@tanstack/react-virtual'
import { type KeyboardEvent, type MouseEvent, type ReactNode, useEffect, useMemo, useRef, useState } from 'react'

const features = tableFeatures({
  rowSortingFeature,
  sortedRowModel: createSortedRowModel(),
  sortFns: { alphanumeric: sortFn_alphanumeric, basic: sortFn_basic },
})
const ROW = 28

export interface Column<T> {
  id: string
  header: string
  /** CSS width of its track: `90px`, `minmax(120px,2fr)`. */
  width: string
  align?: 'right'
  /** For sorting and copying. */
  value?(row: T): string | number | null
  cell(row: T): ReactNode
}

interface Props<T> {
  label: string
  rows: readonly T[]
  columns: readonly Column<T>[]
  rowId(row: T): string
  selected: ReadonlySet<string>
  onSelect(ids: Set<string>): void
  onOpen?(row: T): void
  /** Hears which rows are on the screen. */
  onVisible?(rows: T[]): void
  empty?: ReactNode
}

/**
 * A table for nothing, one, and 50,000 rows: only what is on the screen is drawn. Arrows, Shift, Ctrl and Ctrl+A select,
 * Enter opens, Ctrl+C copies tab-separated text, a click on a heading sorts.
 */
export function DataTable<T>({ label, rows, columns, rowId, selected, onSelect, onOpen, onVisible, empty }: Props<T>) {
  const [sorting, setSorting] = useState<SortingState>([])
  const anchor = useRef<number>(0)
  const cursor = useRef<number>(0)
  const body = useRef<HTMLDivElement>(null)
  const byId = useMemo(() => new Map(columns.map((c) => [c.id, c])), [columns])
  const defs = useMemo(
    () =>
      columns.map((c) => ({
        id: c.id,
        header: c.header,
        accessorFn: (row: T) => c.value?.(row) ?? null,
        enableSorting: c.value !== undefined,
        sortFn: 'alphanumeric' as const,
      })),
    [columns],
  )
  const table = useTable({
    features,
    data: rows as never,
    columns: defs as never,
    state: { sorting },
    onSortingChange: setSorting as never,
    getRowId: rowId as never,
  }) as unknown as {
    getRowModel(): { rows: { id: string; original: T }[] }
  }
  const model = table.getRowModel().rows
  const virtual = useVirtualizer({ count: model.length, getScrollElement: () => body.current, estimateSize: () => ROW, overscan: 8 })
  const items = virtual.getVirtualItems()
  const first = items[0]?.index ?? 0
  const last = items.at(-1)?.index ?? -1

  // biome-ignore lint/correctness/useExhaustiveDependencies: told only when other rows come on the screen
  useEffect(() => {
    onVisible?.(model.slice(first, last + 1).map((r) => r.original))
  }, [first, last, model])

  const range = (a: number, b: number) => new Set(model.slice(Math.min(a, b), Math.max(a, b) + 1).map((r) => r.id))

  const click = (index: number, e: MouseEvent) => {
    const id = model[index]!.id
    cursor.current = index
    if (e.shiftKey) return onSelect(range(anchor.current, index))
    anchor.current = index
    if (e.ctrlKey || e.metaKey) {
      const next = new Set(selected)
      if (!next.delete(id)) next.add(id)
      return onSelect(next)
    }
    onSelect(new Set([id]))
  }

  const copy = () => {
    const lines = model
      .filter((r) => selected.has(r.id))
      .map((r) =>
        columns
          .filter((c) => c.value)
          .map((c) => c.value!(r.original) ?? '')
          .join('\t'),
      )
    const head = columns
      .filter((c) => c.value)
      .map((c) => c.header)
      .join('\t')
    void navigator.clipboard?.writeText([head, ...lines].join('\n'))
  }

  const key = (e: KeyboardEvent) => {
    if ((e.ctrlKey || e.metaKey) && e.key === 'a') {
      e.preventDefault()
      return onSelect(new Set(model.map((r) => r.id)))
    }
    if ((e.ctrlKey || e.metaKey) && e.key === 'c' && selected.size > 0) {
      e.preventDefault()
      return copy()
    }
    if (e.key === 'Enter') {
      const row = model[cursor.current]
      if (row) onOpen?.(row.original)
      return
    }
    const page = Math.max(1, Math.floor((body.current?.clientHeight ?? ROW) / ROW) - 1)
    const step = { ArrowDown: 1, ArrowUp: -1, PageDown: page, PageUp: -page, Home: -model.length, End: model.length }[e.key]
    if (step === undefined || model.length === 0) return
    e.preventDefault()
    const at = Math.min(model.length - 1, Math.max(0, cursor.current + step))
    cursor.current = at
    if (!e.shiftKey) anchor.current = at
    onSelect(e.shiftKey ? range(anchor.current, at) : new Set([model[at]!.id]))
    virtual.scrollToIndex(at)
  }

  const template = columns.map((c) => c.width).join(' ')
  const sorted = sorting[0]
  const turn = (id: string) => setSorting(sorted?.id !== id ? [{ id, desc: false }] : sorted.desc ? [] : [{ id, desc: true }])

  return (
    <div
      role="grid"
      aria-label={label}
      aria-rowcount={model.length}
      aria-multiselectable
      tabIndex={0}
      onKeyDown={key}
      className="flex min-h-0 flex-1 flex-col outline-none focus-visible:outline-none"
    >
      <div
        role="row"
        className="grid shrink-0 overflow-hidden border-b border-line font-semibold text-muted [scrollbar-gutter:stable]"
        style={{ gridTemplateColumns: template }}
      >
        {columns.map((c) => (
          <div
            key={c.id}
            role="columnheader"
            aria-sort={sorted?.id === c.id ? (sorted.desc ? 'descending' : 'ascending') : undefined}
            className={`truncate px-2 py-[6px] text-xs ${c.align === 'right' ? 'text-right' : ''}`}
          >
            {byId.get(c.id)?.value ? (
              <button type="button" tabIndex={-1} onClick={() => turn(c.id)} className="hover:text-ink">
                {c.header}
                {sorted?.id === c.id && (sorted.desc ? ' ↓' : ' ↑')}
              </button>
            ) : (
              c.header
            )}
          </div>
        ))}
      </div>
      <div ref={body} className="relative min-h-0 flex-1 overflow-auto [scrollbar-gutter:stable]">
        {model.length === 0 && empty}
        <div style={{ height: virtual.getTotalSize() }}>
          {items.map((item) => {
            const row = model[item.index]!
            const chosen = selected.has(row.id)
            return (
              // biome-ignore lint/a11y/useKeyWithClickEvents: the grid around it takes the keys
              <div
                key={row.id}
                role="row"
                aria-selected={chosen}
                aria-rowindex={item.index + 1}
                onClick={(e) => click(item.index, e)}
                onDoubleClick={() => onOpen?.(row.original)}
                className={`absolute left-0 grid w-full cursor-default items-center border-b border-line/70 ${chosen ? 'bg-wash' : 'hover:bg-well/50'}`}
                style={{ gridTemplateColumns: template, height: ROW, transform: `translateY(${item.start}px)` }}
              >
                {columns.map((c) => (
                  <div key={c.id} role="gridcell" className={`truncate px-2 ${c.align === 'right' ? 'text-right' : ''}`}>
                    {c.cell(row.original)}
                  </div>
                ))}
              </div>
            )
          })}
        </div>
      </div>
    </div>
  )
}
