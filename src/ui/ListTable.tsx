import { type KeyboardEvent, type ReactNode, useRef } from 'react'

/** One column of a list. */
export interface ListColumn<T> {
  key: string
  /** Its heading; a column of glyphs or buttons has one that only screen readers say (`quiet`). */
  head: string
  quiet?: boolean
  /** What the heading means, on hover. */
  about?: string
  /** CSS width in a table of fixed columns. */
  width?: string
  right?: boolean
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
export function ListTable<T>({ label, rows, columns, rowKey, chosen, onChoose, onOpen, dense, fixed, marks, className = '' }: Props<T>) {
  const body = useRef<HTMLTableSectionElement>(null)
  const keys = rows.map(rowKey)
  // Without a row that is chosen the first one takes the focus.
  const stop = onChoose ? Math.max(0, keys.indexOf(chosen ?? '')) : -1
  const onKey = (e: KeyboardEvent<HTMLTableRowElement>, at: number) => {
    if (e.target !== e.currentTarget || e.altKey || e.ctrlKey || e.metaKey) return
    if (e.key === 'Enter') onOpen?.(rows[at]!)
    else if (e.key === ' ') onChoose?.(keys[at]!)
    else if (steps[e.key]) {
      const next = steps[e.key]!(at, rows.length - 1)
      onChoose?.(keys[next]!)
      const row = body.current?.rows[next]
      row?.focus()
      row?.scrollIntoView({ block: 'nearest' })
    } else return
    e.preventDefault()
  }
  return (
    <table className={`w-full ${fixed ? 'table-fixed' : ''} ${className}`} aria-label={label} role={onChoose ? 'grid' : undefined}>
      <thead className="sticky top-0 z-[1] bg-paper">
        <tr className="border-b border-line text-left text-xs text-muted">
          {columns.map((c) => (
            <th
              key={c.key}
              scope="col"
              style={{ width: c.width }}
              title={c.about}
              className={`px-2 py-1.5 font-semibold ${c.right ? 'text-right' : ''}`}
            >
              {c.quiet ? <span className="sr-only">{c.head}</span> : c.head}
            </th>
          ))}
        </tr>
      </thead>
      <tbody ref={body}>
        {rows.map((row, i) => {
          const is = onChoose !== undefined && keys[i] === chosen
          return (
            <tr
              key={keys[i]}
              {...marks?.(row)}
              role={onChoose ? 'row' : undefined}
              aria-selected={onChoose ? is : undefined}
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
    </table>
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
