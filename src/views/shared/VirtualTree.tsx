import { useVirtualizer } from '@tanstack/react-virtual'
import { ChevronDown, ChevronRight } from 'lucide-react'
import { type KeyboardEvent, type ReactNode, useRef, useState } from 'react'
import { Spinner } from '~/ui/Button'

const ROW = 26

/** One row of a tree, laid flat by its owner: only what is open is in the list. */
export interface TreeRow {
  id: string
  depth: number
  label: string
  /** Null: it has nothing below. */
  open: boolean | null
  busy?: boolean
  /** Null: it cannot be ticked. */
  ticked: boolean | null
  locked?: boolean
}

/** A tree of any size: only what is on the screen is drawn. Arrows move and open, Space ticks. */
export function VirtualTree<R extends TreeRow>({
  label,
  rows,
  onToggle,
  onTick,
  onCursor,
  onKey,
  chosen,
  children,
  empty,
}: {
  label: string
  rows: readonly R[]
  onToggle(row: R): void
  onTick(row: R, on: boolean): void
  /** The cursor went there; with Shift or Ctrl held by mouse. */
  onCursor?(row: R, held: { shift: boolean; ctrl: boolean }): void
  /** Keys that the tree itself has no use for. */
  onKey?(e: KeyboardEvent, row: R): void
  /** The row that stands out; left out: the one under the cursor. */
  chosen?: string | null | ReadonlySet<string>
  /** What stands in a row, after its tick. */
  children(row: R): ReactNode
  empty?: ReactNode
}) {
  const box = useRef<HTMLDivElement>(null)
  const [at, setAt] = useState(0)
  const virtual = useVirtualizer({ count: rows.length, getScrollElement: () => box.current, estimateSize: () => ROW, overscan: 12 })
  const go = (index: number) => {
    const next = Math.min(rows.length - 1, Math.max(0, index))
    setAt(next)
    virtual.scrollToIndex(next)
    if (rows[next]) onCursor?.(rows[next], { shift: false, ctrl: false })
  }
  const key = (e: KeyboardEvent) => {
    const row = rows[at]
    if (!row || e.target instanceof HTMLButtonElement) return
    if (e.key === 'ArrowDown') go(at + 1)
    else if (e.key === 'ArrowUp') go(at - 1)
    else if (e.key === 'Home') go(0)
    else if (e.key === 'End') go(rows.length - 1)
    else if (e.key === 'PageDown') go(at + 15)
    else if (e.key === 'PageUp') go(at - 15)
    else if (e.key === 'ArrowRight' && row.open === false) onToggle(row)
    else if (e.key === 'ArrowLeft' && row.open === true) onToggle(row)
    else if (e.key === 'ArrowLeft') {
      for (let i = at - 1; i >= 0; i--)
        if (rows[i]!.depth < row.depth) {
          go(i)
          break
        }
    } else if (e.key === ' ' && row.ticked !== null && !row.locked) onTick(row, !row.ticked)
    else if (e.key === 'Enter' && row.open !== null) onToggle(row)
    else return onKey?.(e, row)
    e.preventDefault()
  }
  return (
    <div
      ref={box}
      role="tree"
      aria-label={label}
      tabIndex={0}
      onKeyDown={key}
      className="min-h-0 flex-1 overflow-auto outline-none focus-visible:ring-1 focus-visible:ring-slate"
    >
      {rows.length === 0 && empty}
      <div className="relative" style={{ height: virtual.getTotalSize() }}>
        {virtual.getVirtualItems().map((item) => {
          const row = rows[item.index]!
          return (
            // biome-ignore lint/a11y/useKeyWithClickEvents: the tree around it takes the keys
            <div
              key={row.id}
              role="treeitem"
              aria-level={row.depth + 1}
              aria-label={row.label}
              aria-expanded={row.open ?? undefined}
              aria-selected={item.index === at}
              tabIndex={-1}
              onClick={(e) => {
                setAt(item.index)
                onCursor?.(row, { shift: e.shiftKey, ctrl: e.ctrlKey || e.metaKey })
              }}
              className={`group absolute left-0 flex w-full items-center gap-1.5 pr-2 ${(chosen === undefined ? item.index === at : typeof chosen === 'object' && chosen ? chosen.has(row.id) : row.id === chosen) ? 'bg-wash' : 'hover:bg-well/60'}`}
              style={{ height: ROW, paddingLeft: 6 + row.depth * 16, transform: `translateY(${item.start}px)` }}
            >
              {row.open === null ? (
                <span className="w-[17px]" />
              ) : (
                <button
                  type="button"
                  tabIndex={-1}
                  aria-label={`${row.open ? 'Close' : 'Open'} ${row.label}`}
                  onClick={(e) => {
                    e.stopPropagation()
                    onToggle(row)
                  }}
                  className="grid size-[17px] place-items-center text-muted"
                >
                  {row.busy ? <Spinner /> : row.open ? <ChevronDown size={14} /> : <ChevronRight size={14} />}
                </button>
              )}
              {row.ticked !== null && (
                <input
                  type="checkbox"
                  tabIndex={-1}
                  aria-label={row.label}
                  className="accent-(--clay)"
                  checked={row.ticked}
                  disabled={row.locked}
                  onChange={(e) => onTick(row, e.target.checked)}
                />
              )}
              {children(row)}
            </div>
          )
        })}
      </div>
    </div>
  )
}
