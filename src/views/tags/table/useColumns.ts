import {
  type ColumnOrderState,
  type ColumnPinningState,
  type ColumnSizingState,
  type ColumnVisibilityState,
  columnOrderingFeature,
  columnPinningFeature,
  columnResizingFeature,
  columnSizingFeature,
  columnVisibilityFeature,
  tableFeatures,
  useTable,
} from '@tanstack/react-table'
import { useEffect, useMemo, useState } from 'react'
import { z } from 'zod'
import { type GridColumn, gridColumn, gridColumns, shownAtFirst } from './columns'

const features = tableFeatures({ columnOrderingFeature, columnPinningFeature, columnResizingFeature, columnSizingFeature, columnVisibilityFeature })

/** How a person has laid the columns out; kept in the browser. */
const Kept = z.object({
  columnOrder: z.array(z.string()),
  columnSizing: z.record(z.string(), z.number()),
  columnPinning: z.object({ start: z.array(z.string()), end: z.array(z.string()) }),
  columnVisibility: z.record(z.string(), z.boolean()),
})
type Layout = z.infer<typeof Kept>
const KEY = 'tag-columns'

const atFirst = (): Layout => ({
  columnOrder: gridColumns.map((c) => c.id),
  columnSizing: {},
  columnPinning: { start: ['state', 'name'], end: [] },
  columnVisibility: Object.fromEntries(gridColumns.map((c) => [c.id, shownAtFirst.has(c.id)])),
})

function kept(): Layout {
  try {
    const parsed = Kept.safeParse(JSON.parse(localStorage.getItem(KEY) ?? ''))
    if (parsed.success) return { ...atFirst(), ...parsed.data, columnVisibility: { ...atFirst().columnVisibility, ...parsed.data.columnVisibility } }
  } catch {
    // What was kept is not readable: as at first.
  }
  return atFirst()
}

/** A column where it stands now, px. */
export interface PlacedColumn {
  column: GridColumn
  left: number
  width: number
  pinned: boolean
  startResize(e: unknown): void
}

const defs = gridColumns.map((c) => ({ id: c.id, size: c.width, minSize: c.id === 'state' ? 32 : 48, maxSize: 900, accessorFn: () => null }))
const noRows: never[] = []

type Change<T> = T | ((old: T) => T)
const next = <T>(change: Change<T>, old: T): T => (typeof change === 'function' ? (change as (old: T) => T)(old) : change)

/** Which columns are shown, in which order, how wide, and which stay at the left; rows are the table's own. */
export function useColumns() {
  const [layout, setLayout] = useState(kept)
  useEffect(() => {
    const timer = setTimeout(() => localStorage.setItem(KEY, JSON.stringify(layout)), 300)
    return () => clearTimeout(timer)
  }, [layout])
  const table = useTable({
    features,
    data: noRows,
    columns: defs as never,
    state: layout,
    columnResizeMode: 'onChange',
    onColumnOrderChange: (c: Change<ColumnOrderState>) => setLayout((l) => ({ ...l, columnOrder: next(c, l.columnOrder) })),
    onColumnSizingChange: (c: Change<ColumnSizingState>) => setLayout((l) => ({ ...l, columnSizing: next(c, l.columnSizing) })),
    onColumnPinningChange: (c: Change<ColumnPinningState>) => setLayout((l) => ({ ...l, columnPinning: next(c, l.columnPinning) })),
    onColumnVisibilityChange: (c: Change<ColumnVisibilityState>) => setLayout((l) => ({ ...l, columnVisibility: next(c, l.columnVisibility) })),
  } as never) as unknown as {
    getStartLeafHeaders(): Header[]
    getCenterLeafHeaders(): Header[]
  }
  // biome-ignore lint/correctness/useExhaustiveDependencies: the table's answers change with the layout alone
  const placed = useMemo<PlacedColumn[]>(() => {
    const place = (h: Header, pinned: boolean, offset: number): PlacedColumn => ({
      column: gridColumn.get(h.column.id)!,
      left: offset,
      width: h.column.getSize(),
      pinned,
      startResize: h.getResizeHandler(),
    })
    const out: PlacedColumn[] = []
    let left = 0
    for (const [headers, pinned] of [
      [table.getStartLeafHeaders(), true],
      [table.getCenterLeafHeaders(), false],
    ] as const)
      for (const h of headers) {
        if (!layout.columnVisibility[h.column.id]) continue
        const p = place(h, pinned, left)
        out.push(p)
        left += p.width
      }
    return out
  }, [layout])

  /** Puts a column before another (or, with null, last), within its own part. */
  const move = (id: string, before: string | null) =>
    setLayout((l) => {
      const put = (list: string[]) => {
        const without = list.filter((c) => c !== id)
        const at = before === null ? without.length : without.indexOf(before)
        return at < 0 ? list : [...without.slice(0, at), id, ...without.slice(at)]
      }
      const pinned = l.columnPinning.start.includes(id)
      return pinned ? { ...l, columnPinning: { ...l.columnPinning, start: put(l.columnPinning.start) } } : { ...l, columnOrder: put(l.columnOrder) }
    })
  // biome-ignore lint/correctness/useExhaustiveDependencies: all of it follows from the layout
  return useMemo(
    () => ({
      placed,
      shown: (id: string) => layout.columnVisibility[id] === true,
      isPinned: (id: string) => layout.columnPinning.start.includes(id),
      show: (id: string, on: boolean) => setLayout((l) => ({ ...l, columnVisibility: { ...l.columnVisibility, [id]: on } })),
      pin: (id: string, on: boolean) =>
        setLayout((l) => {
          const start = l.columnPinning.start.filter((c) => c !== id)
          return { ...l, columnPinning: { ...l.columnPinning, start: on ? [...start, id] : start } }
        }),
      resize: (id: string, by: number) =>
        setLayout((l) => {
          const now = l.columnSizing[id] ?? gridColumn.get(id)!.width
          return { ...l, columnSizing: { ...l.columnSizing, [id]: Math.min(900, Math.max(48, now + by)) } }
        }),
      move,
      reset: () => setLayout(atFirst()),
    }),
    [layout, placed],
  )
}
export type Columns = ReturnType<typeof useColumns>

interface Header {
  column: { id: string; getSize(): number }
  getResizeHandler(): (e: unknown) => void
}
