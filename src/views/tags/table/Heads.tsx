import { ChevronDown } from 'lucide-react'
import { memo, useState } from 'react'
import { Menu, type MenuItem } from '~/ui/Menu'
import type { Columns, PlacedColumn } from './useColumns'

interface Props {
  columns: Columns
  sort: { column: string; desc: boolean } | null
  onSort(sort: { column: string; desc: boolean } | null): void
  filters: Readonly<Record<string, string>>
  onFilter(column: string, text: string): void
  showFilters: boolean
}

/** The headings: a click sorts, the edge resizes, dragging moves, a menu does all of it by keyboard; under them the filters. */
export const Heads = memo(function Heads({ columns, sort, onSort, filters, onFilter, showFilters }: Props) {
  const { placed } = columns
  const [over, setOver] = useState<string | null>(null)
  const turn = (id: string) => onSort(sort?.column !== id ? { column: id, desc: false } : sort.desc ? null : { column: id, desc: true })
  const spot = ({ pinned, left, width }: PlacedColumn) => (pinned ? { width, left } : { width })
  return (
    <div className="sticky top-0 z-[3] border-b border-line bg-paper text-xs font-semibold text-muted">
      <div role="row" className="flex">
        {placed.map((p) => {
          const { column } = p
          const sorted = sort?.column === column.id ? sort : null
          return (
            <div
              key={column.id}
              role="columnheader"
              aria-label={column.label || 'State'}
              aria-sort={sorted ? (sorted.desc ? 'descending' : 'ascending') : undefined}
              draggable={column.id !== 'state'}
              onDragStart={(e) => e.dataTransfer.setData('text/x-column', column.id)}
              onDragOver={(e) => {
                e.preventDefault()
                setOver(column.id)
              }}
              onDragLeave={() => setOver(null)}
              onDrop={(e) => {
                e.preventDefault()
                setOver(null)
                const moved = e.dataTransfer.getData('text/x-column')
                if (moved && moved !== column.id) columns.move(moved, column.id)
              }}
              className={`group/head relative flex h-[27px] shrink-0 items-center overflow-hidden px-2 ${column.right ? 'justify-end' : ''} ${p.pinned ? 'sticky z-[1] bg-paper' : ''} ${over === column.id ? 'shadow-[inset_2px_0_0_var(--slate)]' : ''}`}
              style={spot(p)}
            >
              {column.sorts ? (
                <button type="button" tabIndex={-1} onClick={() => turn(column.id)} className="truncate hover:text-ink" title={column.setting?.help}>
                  {column.label}
                  {sorted && (sorted.desc ? ' ↓' : ' ↑')}
                </button>
              ) : column.label === '' ? (
                <span className="sr-only">State</span>
              ) : (
                column.label
              )}
              {column.id !== 'state' && <HeadMenu column={p} columns={columns} onSort={onSort} />}
              {column.id !== 'state' && (
                // biome-ignore lint/a11y/noStaticElementInteractions: the menu resizes by keyboard
                <div
                  onMouseDown={(e) => p.startResize(e)}
                  onTouchStart={(e) => p.startResize(e)}
                  draggable
                  onDragStart={(e) => {
                    e.preventDefault()
                    e.stopPropagation()
                  }}
                  className="absolute top-0 right-0 h-full w-[5px] cursor-col-resize border-r border-transparent group-hover/head:border-line hover:border-slate"
                />
              )}
            </div>
          )
        })}
      </div>
      {showFilters && (
        <div role="row" className="flex border-t border-line/70">
          {placed.map((p) => (
            <div key={p.column.id} role="gridcell" className={`shrink-0 p-[3px] ${p.pinned ? 'sticky z-[1] bg-paper' : ''}`} style={spot(p)}>
              {p.column.sorts && (
                <input
                  aria-label={`Filter ${p.column.label}`}
                  value={filters[p.column.id] ?? ''}
                  onChange={(e) => onFilter(p.column.id, e.target.value)}
                  onKeyDown={(e) => e.key === 'Escape' && onFilter(p.column.id, '')}
                  placeholder={p.column.right ? '>5, 1..9' : 'has, =is, !not'}
                  title="Words that must be in it; =exactly, !not; = alone: empty, ! alone: not empty; numbers also >5, <=5, 1..9; ages in seconds"
                  className={`h-[21px] w-full rounded-sm border bg-sheet px-1 font-normal text-ink placeholder:text-muted/55 ${filters[p.column.id] ? 'border-slate' : 'border-line'}`}
                />
              )}
            </div>
          ))}
        </div>
      )}
    </div>
  )
})

function HeadMenu({ column: { column, pinned }, columns, onSort }: { column: PlacedColumn; columns: Columns; onSort: Props['onSort'] }) {
  const { placed } = columns
  const i = placed.findIndex((c) => c.column.id === column.id)
  const before = placed[i - 1]
  const after = placed[i + 1]
  const items: MenuItem[] = [
    { label: 'Sort upwards', disabled: !column.sorts, onSelect: () => onSort({ column: column.id, desc: false }) },
    { label: 'Sort downwards', disabled: !column.sorts, onSelect: () => onSort({ column: column.id, desc: true }) },
    {
      label: 'Move left',
      disabled: before === undefined || before.pinned !== pinned || before.column.id === 'state',
      onSelect: () => columns.move(column.id, before!.column.id),
    },
    { label: 'Move right', disabled: after === undefined || after.pinned !== pinned, onSelect: () => columns.move(after!.column.id, column.id) },
    { label: 'Wider', onSelect: () => columns.resize(column.id, 24) },
    { label: 'Narrower', onSelect: () => columns.resize(column.id, -24) },
    { label: pinned ? 'Let it scroll' : 'Keep at the left', onSelect: () => columns.pin(column.id, !pinned) },
    { label: 'Hide', disabled: column.id === 'name', onSelect: () => columns.show(column.id, false) },
  ]
  return (
    <Menu items={items}>
      <button
        type="button"
        aria-label={`Column ${column.label}`}
        className={`absolute grid size-[18px] place-items-center rounded-sm bg-paper opacity-0 group-hover/head:opacity-100 hover:bg-well focus-visible:opacity-100 data-[state=open]:opacity-100 ${column.right ? 'left-[3px]' : 'right-[5px]'}`}
      >
        <ChevronDown size={12} />
      </button>
    </Menu>
  )
}
