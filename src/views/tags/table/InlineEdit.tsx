import { Popover } from 'radix-ui'
import { useState } from 'react'
import type { Tag } from '~/contract/tag'
import type { Surroundings, TagColumn } from '~/core/tag/columns'
import { editOf } from '~/core/tag/plan'
import { useWork } from '../../shared/useWork'
import { CellInput } from '../edit/CellInput'
import { tagEdits } from '../edit/edits'
import { planCells } from '../edit/single'

/** One cell while it is edited: Enter saves and goes down, Tab saves and goes right, Escape leaves it as it was. */
export function InlineEdit({
  tag,
  column,
  around,
  onDone,
}: {
  tag: Tag
  column: TagColumn
  around: Surroundings
  onDone(then: 'stay' | 'down' | 'right'): void
}) {
  const [text, setText] = useState(() => column.read(tag, around))
  const { busy, problem, setProblem, run } = useWork()
  const planned = planCells(tag, { [column.key]: text }, around)
  // A fault may lie in a neighbour: a range with one end, say.
  const fault = problem?.message ?? planned.faults[0]?.reason ?? null
  const save = async (then: 'stay' | 'down' | 'right') => {
    if (busy || planned.state === 'faulty') return
    if (planned.state === 'same') return onDone(then)
    await run(async () => {
      await tagEdits.apply(editOf([planned]), `${column.label} of ${tag.name}: ${text || 'nothing'}`)
      onDone(then)
    })
  }
  return (
    <span className="relative -mx-1.5 flex w-[calc(100%+12px)]">
      <CellInput
        column={column}
        value={text}
        autoFocus
        aria-label={`${column.label} of ${tag.name}`}
        aria-invalid={fault !== null}
        title={fault ?? undefined}
        className={`h-[23px] w-full ${fault ? 'border-bad' : 'border-slate'}`}
        onValue={(t) => {
          setText(t)
          setProblem(null)
        }}
        onFocus={(e) => 'select' in e.target && e.target.select()}
        onClick={(e) => e.stopPropagation()}
        onKeyDown={(e) => {
          if (e.key === 'Enter') void save('down')
          else if (e.key === 'Tab') void save('right')
          else if (e.key === 'Escape') onDone('stay')
          else return
          e.preventDefault()
          e.stopPropagation()
        }}
        // What is right is kept when one clicks elsewhere; what is wrong is not saved by accident.
        onBlur={() => (planned.state === 'change' && !problem ? void save('stay') : onDone('stay'))}
      />
      <Popover.Root open={fault !== null}>
        <Popover.Anchor className="absolute inset-0 -z-10" />
        <Popover.Portal>
          <Popover.Content
            role="alert"
            align="start"
            sideOffset={4}
            onOpenAutoFocus={(e) => e.preventDefault()}
            className="z-30 max-w-72 rounded-sm border border-bad bg-sheet px-2 py-1 text-xs text-bad"
          >
            {fault}
          </Popover.Content>
        </Popover.Portal>
      </Popover.Root>
    </span>
  )
}
