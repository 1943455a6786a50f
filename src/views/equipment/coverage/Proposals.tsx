import { useVirtualizer } from '@tanstack/react-virtual'
import { useMemo, useRef, useState } from 'react'
import { formatValue } from '~/core/value/format'
import { Button, Spinner } from '~/ui/Button'
import { Modal } from '~/ui/Modal'
import { ProblemNote } from '~/ui/Notes'
import { countText } from '~/ui/time'
import { useLiveValue, useWatch } from '../../app/live/live'
import { useWork } from '../../shared/useWork'
import { equipmentEdits } from '../edits'
import type { PlantModel } from '../useModel'
import { bindMany } from './ByPattern'
import type { MatchingTask } from './matching.worker'
import { useMatching } from './useMatching'

/** Tags proposed for members that nothing fills, each with its score and why; accept one, or all above a threshold. */
export function Proposals({ model, ids, onClose }: { model: PlantModel; ids: readonly string[]; onClose(): void }) {
  const [least, setLeast] = useState(70)
  const [without, setWithout] = useState<ReadonlySet<string>>(new Set())
  const [extra, setExtra] = useState<ReadonlySet<string>>(new Set())
  const { busy, run } = useWork()
  // What was proposed stays while some of it is accepted: only the first state of the model is asked.
  const [first] = useState(model)
  const task = useMemo<MatchingTask>(() => ({ do: 'propose', ids }), [ids])
  const { proposals, progress, problem } = useMatching(task, first)
  const sorted = useMemo(() => [...(proposals ?? [])].sort((a, b) => b.score - a.score), [proposals])
  const key = (p: { equipmentId: string; path: string }) => `${p.equipmentId} ${p.path}`
  const taken = (p: (typeof sorted)[number]) => (p.score >= least ? !without.has(key(p)) : extra.has(key(p)))
  const accepted = sorted.filter(taken)
  const box = useRef<HTMLDivElement>(null)
  const virtual = useVirtualizer({ count: sorted.length, getScrollElement: () => box.current, estimateSize: () => 44, overscan: 8 })
  const items = virtual.getVirtualItems()
  useWatch({ tags: items.flatMap((i) => first.tags.get(sorted[i.index]!.tagId)?.handle ?? []) })
  const toggle = (p: (typeof sorted)[number]) => {
    const [set, put] = p.score >= least ? ([without, setWithout] as const) : ([extra, setExtra] as const)
    const next = new Set(set)
    if (!next.delete(key(p))) next.add(key(p))
    put(next)
  }
  const apply = () =>
    run(async () => {
      const done = await equipmentEdits.tell(bindMany(model, accepted), `${countText(accepted.length)} members filled`)
      if (done) onClose()
    })
  return (
    <Modal
      open
      onClose={onClose}
      width={900}
      title="Proposals"
      note={`For members that nothing fills, of ${countText(ids.length)} equipment: by name, unit, type and range`}
      foot={
        <>
          <span className="mr-auto text-muted">{progress ? <Spinner /> : `${countText(sorted.length)} proposed`}</span>
          <Button onClick={onClose}>Cancel</Button>
          <Button kind="main" busy={busy} disabled={accepted.length === 0} onClick={() => void apply()}>
            Accept {countText(accepted.length)}
          </Button>
        </>
      }
    >
      {problem && <ProblemNote problem={{ message: problem, hint: 'Load the page again' }} />}
      <label className="mb-2 flex items-center gap-3">
        <span className="text-muted">All from a score of</span>
        <input
          type="range"
          min={30}
          max={100}
          value={least}
          aria-label="Least score"
          onChange={(e) => setLeast(Number(e.target.value))}
          className="w-56 accent-(--clay)"
        />
        <span className="font-mono">{least}</span>
        <span className="text-muted">{countText(sorted.filter((p) => p.score >= least).length)} reach it</span>
      </label>
      <div ref={box} className="h-[400px] overflow-auto rounded-sm border border-line bg-sheet">
        {!progress && sorted.length === 0 && (
          <p className="px-3 py-2 text-muted">Nothing to propose: every member is filled, or no tag's name comes near.</p>
        )}
        <ul className="relative" style={{ height: virtual.getTotalSize() }} aria-label="Proposals">
          {items.map((i) => {
            const p = sorted[i.index]!
            return (
              <li
                key={key(p)}
                data-proposal={`${model.equipment.get(p.equipmentId)?.name} ${p.label}`}
                className={`absolute left-0 flex h-[44px] w-full items-center gap-3 border-b border-line/70 px-3 ${taken(p) ? '' : 'opacity-60'}`}
                style={{ transform: `translateY(${i.start}px)` }}
              >
                <input type="checkbox" className="accent-(--clay)" aria-label={`Accept ${p.label}`} checked={taken(p)} onChange={() => toggle(p)} />
                <span className="w-9 text-right font-mono text-[15px] font-semibold">{p.score}</span>
                <span className="w-52 min-w-0">
                  <span className="block truncate font-semibold">{p.label}</span>
                  <span className="block truncate text-xs text-muted">{model.equipment.get(p.equipmentId)?.name}</span>
                </span>
                <span className="min-w-0 flex-1">
                  <span className="block truncate">{first.tags.get(p.tagId)?.name}</span>
                  <span className="block truncate text-xs text-muted">{p.reasons.join(' · ')}</span>
                </span>
                <Now model={first} tagId={p.tagId} />
              </li>
            )
          })}
        </ul>
      </div>
    </Modal>
  )
}

function Now({ model, tagId }: { model: PlantModel; tagId: string }) {
  const tag = model.tags.get(tagId)
  const v = useLiveValue(tag?.handle ?? -1)
  return (
    <span className="shrink-0 font-mono text-[12.5px]">
      {tag && v ? formatValue(v[1], tag) : '-'} {tag?.unit}
    </span>
  )
}
