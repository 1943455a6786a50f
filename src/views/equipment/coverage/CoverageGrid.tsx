import { useVirtualizer } from '@tanstack/react-virtual'
import { type KeyboardEvent, memo, type RefObject, useCallback, useEffect, useRef, useState } from 'react'
import type { Equipment, Member } from '~/contract/equipment'
import { type CellState, cellState } from '~/core/equipment/coverage'
import { pathText } from '~/core/equipment/hierarchy'
import type { Leaf } from '~/core/equipment/resolve'
import type { GlyphState } from '~/ui/Glyph'
import type { PlantModel } from '../useModel'

export const stateWords: Record<CellState, { label: string; glyph: GlyphState | null }> = {
  missing: { label: 'Empty', glyph: 'bad' },
  broken: { label: 'Broken', glyph: 'bad' },
  mismatch: { label: 'Mismatch', glyph: 'uncertain' },
  bad: { label: 'Bad now', glyph: 'bad' },
  uncertain: { label: 'Uncertain now', glyph: 'uncertain' },
  open: { label: 'Open, optional', glyph: 'idle' },
  good: { label: 'Good', glyph: 'good' },
}

const ROW = 28
const HEAD = 190
const COLUMN = 96

export interface Column {
  id: string
  label: string
  member: Member
}

/** Equipment by member: each cell tells how that member is doing; arrows move, Enter or a click opens one for mending. */
export function CoverageGrid({
  rows,
  columns,
  model,
  status,
  chosen,
  onChoose,
}: {
  rows: readonly Equipment[]
  columns: readonly Column[]
  model: PlantModel
  status(handle: number): number | undefined
  chosen: { id: string; path: string } | null
  onChoose(id: string, path: string): void
}) {
  const box = useRef<HTMLDivElement>(null)
  const [at, setAt] = useState({ row: 0, column: 0 })
  const virtual = useVirtualizer({ count: rows.length, getScrollElement: () => box.current, estimateSize: () => ROW, overscan: 10 })
  const [firstColumn, lastColumn] = useColumnsInView(box, columns.length)
  const shown = columns.slice(firstColumn, lastColumn + 1)
  const told = useRef(onChoose)
  told.current = onChoose
  const onCell = useCallback((row: number, column: number, id: string, path: string) => {
    setAt({ row, column })
    told.current(id, path)
  }, [])
  const width = HEAD + columns.length * COLUMN
  const key = (e: KeyboardEvent) => {
    const page = Math.max(1, Math.floor((box.current?.clientHeight ?? ROW) / ROW) - 1)
    const step: Record<string, [number, number]> = {
      ArrowDown: [1, 0],
      ArrowUp: [-1, 0],
      ArrowRight: [0, 1],
      ArrowLeft: [0, -1],
      PageDown: [page, 0],
      PageUp: [-page, 0],
      Home: [-rows.length, 0],
      End: [rows.length, 0],
    }
    const s = step[e.key]
    if (e.key === 'Enter' && rows[at.row] && columns[at.column]) onChoose(rows[at.row]!.id, columns[at.column]!.id)
    else if (s) {
      const row = Math.min(rows.length - 1, Math.max(0, at.row + s[0]))
      const column = Math.min(columns.length - 1, Math.max(0, at.column + s[1]))
      setAt({ row, column })
      virtual.scrollToIndex(row)
      toColumn(box.current, column)
    } else return
    e.preventDefault()
  }
  return (
    <div
      ref={box}
      role="grid"
      aria-label="Coverage"
      aria-rowcount={rows.length}
      tabIndex={0}
      onKeyDown={key}
      className="min-h-0 flex-1 overflow-auto outline-none focus-visible:ring-1 focus-visible:ring-slate"
    >
      <div className="sticky top-0 z-20 flex border-b border-line bg-paper" style={{ width, height: 40 }} role="row">
        <div className="sticky left-0 z-10 bg-paper px-3 pt-5 text-xs font-semibold text-muted" style={{ width: HEAD }}>
          Equipment
        </div>
        <div className="relative flex-1">
          {shown.map((c, i) => (
            <div
              key={c.id}
              role="columnheader"
              className="absolute top-0 flex h-full w-[96px] flex-col justify-end px-2 pb-1 text-xs leading-4 text-muted"
              style={{ transform: `translateX(${(firstColumn + i) * COLUMN}px)` }}
              title={c.label}
            >
              <span className="line-clamp-2 font-semibold">{c.label}</span>
            </div>
          ))}
        </div>
      </div>
      <div className="relative" style={{ height: virtual.getTotalSize(), width }}>
        {virtual.getVirtualItems().map((r) => {
          const one = rows[r.index]!
          return (
            <CoverageRow
              key={one.id}
              one={one}
              top={r.start}
              index={r.index}
              width={width}
              columns={columns}
              from={firstColumn}
              to={lastColumn}
              model={model}
              status={status}
              cursor={at.row === r.index ? at.column : -1}
              chosen={chosen?.id === one.id ? chosen.path : null}
              onCell={onCell}
            />
          )
        })}
      </div>
    </div>
  )
}

/** So many columns beside those in view are drawn too. */
const BESIDE = 4

/**
 * The first and last column in view. It looks before the rows are drawn anew (in the capturing phase): asked afterwards, the
 * browser would lay everything out again only to answer.
 */
function useColumnsInView(box: RefObject<HTMLDivElement | null>, count: number): readonly [number, number] {
  const [range, setRange] = useState<readonly [number, number]>([0, 30])
  useEffect(() => {
    const el = box.current
    if (!el) return
    const look = () => {
      const first = Math.max(0, Math.floor(el.scrollLeft / COLUMN) - BESIDE)
      const last = Math.ceil((el.scrollLeft + el.clientWidth - HEAD) / COLUMN) + BESIDE
      setRange((old) => (old[0] === first && old[1] === last ? old : [first, last]))
    }
    look()
    el.addEventListener('scroll', look, { capture: true, passive: true })
    const size = new ResizeObserver(look)
    size.observe(el)
    return () => {
      el.removeEventListener('scroll', look, { capture: true })
      size.disconnect()
    }
  }, [box])
  return [Math.min(range[0], Math.max(0, count - 1)), Math.min(range[1], count - 1)]
}

/** Brings a column into view. */
function toColumn(el: HTMLDivElement | null, column: number): void {
  if (!el) return
  const room = el.clientWidth - HEAD
  const left = column * COLUMN
  if (left < el.scrollLeft) el.scrollLeft = left
  else if (left + COLUMN > el.scrollLeft + room) el.scrollLeft = left + COLUMN - room
}

/** One equipment: drawn anew only when something of it has changed, not when the others move. */
const CoverageRow = memo(function CoverageRow({
  one,
  top,
  index,
  width,
  columns,
  from,
  to,
  model,
  status,
  cursor,
  chosen,
  onCell,
}: {
  one: Equipment
  top: number
  index: number
  width: number
  columns: readonly Column[]
  from: number
  to: number
  model: PlantModel
  status(handle: number): number | undefined
  cursor: number
  chosen: string | null
  onCell(row: number, column: number, id: string, path: string): void
}) {
  const leaves = new Map(model.resolver.leavesOf(one).map((l) => [l.keys.join('.'), l]))
  return (
    <div
      role="row"
      aria-label={one.name}
      className="absolute left-0 flex border-b border-line/70"
      style={{ height: ROW, width, transform: `translateY(${top}px)`, contain: 'layout style' }}
    >
      <div role="rowheader" className="sticky left-0 z-10 truncate bg-paper px-3 leading-7" style={{ width: HEAD }}>
        <a href={`/equipment?id=${one.id}`} tabIndex={-1} className="hover:text-slate hover:underline" title={pathText(model.equipment, one.id)}>
          {one.name}
        </a>
      </div>
      <div className="relative flex-1" role="presentation">
        {columns.slice(from, to + 1).map((column, i) => {
          const leaf = leaves.get(column.id)
          return (
            <CellBox
              key={column.id}
              start={(from + i) * COLUMN}
              leaf={leaf}
              state={leaf ? cellState(leaf, status) : null}
              label={`${one.name} ${column.label}`}
              cursor={cursor === from + i}
              chosen={chosen === column.id}
              onClick={() => onCell(index, from + i, one.id, column.id)}
            />
          )
        })}
      </div>
    </div>
  )
})

function CellBox({
  start,
  leaf,
  state,
  label,
  cursor,
  chosen,
  onClick,
}: {
  start: number
  leaf: Leaf | undefined
  state: CellState | null
  label: string
  cursor: boolean
  chosen: boolean
  onClick(): void
}) {
  const words = state ? stateWords[state] : null
  const kind = leaf?.binding && leaf.binding.kind !== 'tag' ? (leaf.byClass ? 'computed' : leaf.binding.kind) : ''
  const told = state === 'missing' || state === 'broken' ? state : state === 'mismatch' ? (leaf?.problem?.kind ?? '') : kind
  return (
    // biome-ignore lint/a11y/useKeyWithClickEvents: the grid around it takes the keys
    <div
      role="gridcell"
      aria-label={`${label}: ${words?.label ?? 'not there'}`}
      title={leaf?.problem?.message ?? words?.label}
      data-state={state ?? ''}
      onClick={onClick}
      className={`absolute top-0 flex h-full w-[96px] cursor-default items-center gap-1.5 px-2 ${chosen ? 'bg-wash' : 'hover:bg-well/60'} ${cursor ? 'outline outline-1 -outline-offset-1 outline-slate' : ''}`}
      style={{ transform: `translateX(${start}px)` }}
    >
      {/* Drawn by the style sheet: thousands of pictures of their own would make scrolling heavy. */}
      {words?.glyph && <i className={`brick brick-${words.glyph}`} />}
      {told !== '' && (
        <span
          className={`truncate text-xs ${state === 'missing' || state === 'broken' ? 'text-bad' : state === 'mismatch' ? 'text-uncertain' : 'text-muted'}`}
        >
          {told}
        </span>
      )}
    </div>
  )
}
