import { useVirtualizer } from '@tanstack/react-virtual'
import { type KeyboardEvent, type ReactNode, useRef } from 'react'
import { type HeadColumn, TableHead } from './TableHead'

/** One column of a list. */
export interface ListColumn<T> extends HeadColumn {
  mono?: boolean
  strong?: boolean
  muted?: boolean
  /** Never cut short, and never on two lines. */
  whole?: boolean
  cell(row: T): ReactNode
  /** What is shown on hover, where the cell may be cut short. */
  tip?(row: T): string | undefined
  /** Further look of one cell. */
  look?(row: T): string
}

interface Props<T> {
  label: string
  rows: readonly T[]
  columns: readonly ListColumn<T>[]
  rowKey(row: T): string
  /** The row that the peek shows; with it rows can be chosen, by pointer and by arrows. */
  chosen?: string | null
  onChoose?(key: string): void
  /** Enter or a double click. */
  onOpen?(row: T): void
  /** Height of a row: of a list that a page is about, or of one within other things. */
  dense?: boolean
  /** Columns have the widths that they say; what is longer is cut short. */
  fixed?: boolean
  /** Further attributes of a row. */
  marks?(row: T): Record<`data-${string}`, string>
  className?: string
  /** Look of its own scroller: only the rows that are seen there are drawn, for lists that may be long and change by the second. */
  scroller?: string
}

const steps: Record<string, (at: number, last: number) => number> = {
  ArrowDown: (at, last) => Math.min(at + 1, last),
  ArrowUp: (at) => Math.max(at - 1, 0),
  PageDown: (at, last) => Math.min(at + 12, last),
  PageUp: (at) => Math.max(at - 12, 0),
  Home: () => 0,
  End: (_, last) => last,
}

/**
 * A list in rows and columns. Where rows can be chosen it is one stop of the Tab key: arrows, Page, Home and End choose, Enter opens.
 */
export function ListTable<T>({ label, rows, columns, rowKey, chosen, onChoose, onOpen, dense, fixed, marks, className = '', scroller }: Props<T>) {
  const box = useRef<HTMLDivElement>(null)
  const body = useRef<HTMLTableSectionElement>(null)
  const height = dense ? 28 : 34
  const virtual = useVirtualizer({
    count: rows.length,
    enabled: scroller !== undefined,
    getScrollElement: () => box.current,
    estimateSize: () => height,
    overscan: 6,
    scrollPaddingStart: 30,
  })
  const seen = scroller === undefined ? null : virtual.getVirtualItems()
  const first = seen ? (seen[0]?.index ?? 0) : 0
  const last = seen ? (seen.at(-1)?.index ?? -1) : rows.length - 1
  const keys = rows.map(rowKey)
  // Without a chosen row that is drawn the first one takes the focus.
  const at = keys.indexOf(chosen ?? '')
  const stop = onChoose ? (at >= first && at <= last ? at : first) : -1
  const onKey = (e: KeyboardEvent<HTMLTableRowElement>, at: number) => {
    if (e.target !== e.currentTarget || e.altKey || e.ctrlKey || e.metaKey) return
    if (e.key === 'Enter') onOpen?.(rows[at]!)
    else if (e.key === ' ') onChoose?.(keys[at]!)
    else if (steps[e.key]) {
      const next = steps[e.key]!(at, rows.length - 1)
      onChoose?.(keys[next]!)
      if (seen) virtual.scrollToIndex(next)
      // One that was not drawn is, before the next picture.
      requestAnimationFrame(() => {
        const row = body.current?.querySelector<HTMLElement>(`[aria-rowindex="${next + 1}"]`)
        row?.focus({ preventScroll: seen !== null })
        if (!seen) row?.scrollIntoView({ block: 'nearest' })
      })
    } else return
    e.preventDefault()
  }
  const table = (
    <table
      className={`w-full ${fixed ? 'table-fixed' : ''} ${className}`}
      aria-label={label}
      role={onChoose ? 'grid' : undefined}
      aria-rowcount={onChoose ? rows.length : undefined}
    >
      <TableHead columns={columns} sticky />
      {first > 0 && <Gap height={first * height} columns={columns.length} />}
      <tbody ref={body}>
        {rows.slice(first, last + 1).map((row, n) => {
          const i = first + n
          const is = onChoose !== undefined && keys[i] === chosen
          return (
            <tr
              key={keys[i]}
              {...marks?.(row)}
              role={onChoose ? 'row' : undefined}
              aria-selected={onChoose ? is : undefined}
              aria-rowindex={onChoose ? i + 1 : undefined}
              tabIndex={onChoose ? (i === stop ? 0 : -1) : undefined}
              onClick={onChoose && (() => onChoose(keys[i]!))}
              onDoubleClick={onOpen && (() => onOpen(row))}
              onKeyDown={onChoose && ((e) => onKey(e, i))}
              className={`cursor-default border-b border-line/70 ${dense ? 'h-7' : 'h-[34px]'} ${is ? 'bg-wash' : onChoose ? 'hover:bg-well/50' : ''}`}
            >
              {columns.map((c) => (
                <td key={c.key} title={c.tip?.(row)} className={`px-2 ${cellLook(c, fixed)} ${c.look?.(row) ?? ''}`}>
                  {c.cell(row)}
                </td>
              ))}
            </tr>
          )
        })}
      </tbody>
      {last + 1 < rows.length && <Gap height={(rows.length - last - 1) * height} columns={columns.length} />}
    </table>
  )
  if (scroller === undefined) return table
  return (
    <div ref={box} className={`overflow-auto ${scroller}`}>
      {table}
    </div>
  )
}

/** Room of rows that are not drawn. */
function Gap({ height, columns }: { height: number; columns: number }) {
  return (
    <tbody aria-hidden="true">
      <tr>
        <td colSpan={columns} style={{ height, padding: 0 }} />
      </tr>
    </tbody>
  )
}

function cellLook<T>(c: ListColumn<T>, fixed = false): string {
  const looks = [
    c.right && 'text-right',
    c.mono && 'font-mono text-[12.5px]',
    c.strong && 'font-semibold',
    c.muted && 'text-muted',
    c.whole ? 'whitespace-nowrap' : (fixed || c.tip) && 'truncate',
    c.tip && !fixed && !c.whole && 'max-w-56',
  ]
  return looks.filter(Boolean).join(' ')
}
