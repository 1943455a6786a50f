import { type MouseEvent, memo } from 'react'
import type { Tag } from '~/contract/tag'
import type { Surroundings } from '~/core/tag/columns'
import { useLiveValue } from '../../app/live/live'
import { InlineEdit } from './InlineEdit'
import type { PlacedColumn } from './useColumns'

/** Height of a row, px. */
export const ROW = 28

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

/** One tag over the columns that are shown; drawn anew when its own value comes, or what is shown of it changes. */
export const TagRow = memo(
  function TagRow({ tag, index, top, placed, around, chosen, cell, edited, onClick, onDoubleClick, onEdited }: RowProps) {
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
