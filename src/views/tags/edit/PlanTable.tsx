import { useVirtualizer } from '@tanstack/react-virtual'
import { useMemo, useRef, useState } from 'react'
import { columnIndex, tagColumns } from '~/core/tag/columns'
import type { Plan, PlannedRow } from '~/core/tag/plan'
import { leafOf } from '~/core/tag/view'
import { Glyph } from '~/ui/Glyph'
import { countText } from '~/ui/time'

const ROW = 25
const states = [
  ['change', 'to change'],
  ['add', 'to add'],
  ['faulty', 'refused'],
  ['same', 'unchanged'],
] as const
const label = (key: string) => tagColumns[columnIndex.get(key) ?? -1]?.label ?? key

/** What a plan would do, row by row: old and new values, and why rows are refused. For any number of rows. */
export function PlanTable({ plan, lines = true }: { plan: Plan; lines?: boolean }) {
  const first = states.find(([s]) => (s === 'faulty' ? plan.counts.faulty > 0 : plan.counts[s] > 0))?.[0] ?? 'change'
  const [picked, setPicked] = useState<PlannedRow['state'] | null>(null)
  const state = picked !== null && plan.counts[picked] > 0 ? picked : plan.counts.faulty > 0 && picked === null ? 'faulty' : first
  // One line a cell that changes or is refused.
  const entries = useMemo(
    () =>
      plan.rows
        .filter((r) => r.state === state)
        .flatMap((row): { row: PlannedRow; part: number }[] => {
          const parts = state === 'faulty' ? row.faults.length : state === 'change' ? row.changes.length : 1
          return Array.from({ length: Math.max(1, parts) }, (_, part) => ({ row, part }))
        }),
    [plan, state],
  )
  const box = useRef<HTMLDivElement>(null)
  const virtual = useVirtualizer({ count: entries.length, getScrollElement: () => box.current, estimateSize: () => ROW, overscan: 8 })
  return (
    <div className="flex min-h-0 flex-col">
      <div role="tablist" className="mb-1.5 flex gap-1.5">
        {states.map(([s, text]) => (
          <button
            key={s}
            type="button"
            role="tab"
            aria-selected={state === s}
            disabled={plan.counts[s] === 0}
            onClick={() => setPicked(s)}
            data-plan={s}
            className={`flex h-6 items-center gap-1.5 rounded-sm border px-2.5 text-xs disabled:opacity-40 ${state === s ? 'border-slate bg-wash font-semibold text-slate' : 'border-line bg-sheet'}`}
          >
            {s === 'faulty' && plan.counts.faulty > 0 && <Glyph state="bad" />}
            <span className="font-mono">{countText(plan.counts[s])}</span> {text}
          </button>
        ))}
      </div>
      <div
        ref={box}
        className="h-[300px] overflow-auto rounded-sm border border-line bg-sheet"
        role="table"
        aria-label="What would be done"
        data-plan-rows
      >
        <div className="relative" style={{ height: virtual.getTotalSize() }}>
          {virtual.getVirtualItems().map((item) => {
            const { row, part } = entries[item.index]!
            return (
              <div
                key={item.index}
                role="row"
                className="absolute left-0 flex w-full items-center gap-3 border-b border-line/60 px-2"
                style={{ height: ROW, transform: `translateY(${item.start}px)` }}
              >
                {lines && (
                  <span role="cell" className="w-[62px] shrink-0 font-mono text-[12px] text-muted" title="Row, counted with the heading">
                    {part === 0 ? `row ${row.line}` : ''}
                  </span>
                )}
                <span role="cell" className={`flex shrink-0 ${state === 'faulty' ? 'w-[205px]' : 'w-[270px]'}`} title={row.name}>
                  {part === 0 && (
                    <>
                      <span className="min-w-0 shrink truncate text-muted">{row.name.slice(0, row.name.lastIndexOf('/') + 1)}</span>
                      <span className="max-w-full shrink-0 truncate">{leafOf(row.name)}</span>
                    </>
                  )}
                </span>
                <Detail row={row} part={part} />
              </div>
            )
          })}
        </div>
      </div>
    </div>
  )
}

function Detail({ row, part }: { row: PlannedRow; part: number }) {
  const fault = row.faults[part]
  if (row.state === 'faulty' && fault)
    return (
      <>
        <span role="cell" className="w-[112px] shrink-0 truncate text-muted">
          {label(fault.column)}
        </span>
        <span role="cell" className="min-w-0 flex-1 truncate text-bad" title={fault.reason}>
          {fault.reason}
        </span>
        <span role="cell" className="max-w-[160px] shrink-0 truncate font-mono text-[12px] text-muted" title={fault.given}>
          {fault.given}
        </span>
      </>
    )
  const change = row.changes[part]
  if (row.state === 'change' && change)
    return (
      <>
        <span role="cell" className="w-[112px] shrink-0 truncate text-muted">
          {label(change.column)}
        </span>
        <span role="cell" className="min-w-0 flex-1 truncate font-mono text-[12.5px]" title={`${change.old} → ${change.new}`}>
          <del className="text-muted">{change.old || 'nothing'}</del>
          <span className="px-1.5 text-muted">→</span>
          <ins className="no-underline">{change.new || 'nothing'}</ins>
        </span>
      </>
    )
  const d = row.draft ?? row.tag
  return (
    <span role="cell" className="min-w-0 flex-1 truncate font-mono text-[12.5px] text-muted">
      {d ? `${d.address}  ${d.dataType}  ${d.unit}` : ''}
    </span>
  )
}
