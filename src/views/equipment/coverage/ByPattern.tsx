import { useVirtualizer } from '@tanstack/react-virtual'
import { useEffect, useMemo, useRef, useState } from 'react'
import type { EquipmentEditInput } from '~/contract/equipment'
import { templateFilters } from '~/core/address/template'
import type { NamingHit } from '~/core/equipment/naming'
import { namingKeys, parseNaming } from '~/core/equipment/naming'
import { Button, Spinner } from '~/ui/Button'
import { CheckField, Choice, SelectField, TextField } from '~/ui/Field'
import { Glyph } from '~/ui/Glyph'
import { Modal } from '~/ui/Modal'
import { ProblemNote } from '~/ui/Notes'
import { countText } from '~/ui/time'
import { useWork } from '../../shared/useWork'
import { equipmentEdits } from '../edits'
import type { PlantModel } from '../useModel'
import type { MatchingTask } from './matching.worker'
import { useMatching } from './useMatching'

type Show = 'all' | 'hit' | 'miss' | 'several'
const stateOf = (h: NamingHit): Exclude<Show, 'all'> => (h.tagIds.length === 1 ? 'hit' : h.tagIds.length === 0 ? 'miss' : 'several')

/** An edit that binds members of many equipment. */
export function bindMany(model: PlantModel, bound: readonly { equipmentId: string; path: string; tagId: string }[]): EquipmentEditInput {
  const by = new Map<string, { path: string; tagId: string }[]>()
  for (const b of bound) {
    const list = by.get(b.equipmentId)
    if (list) list.push(b)
    else by.set(b.equipmentId, [b])
  }
  return {
    change: [...by].map(([id, list]) => {
      const one = model.equipment.get(id)!
      const added = Object.fromEntries(list.map((b) => [b.path, { kind: 'tag' as const, tagId: b.tagId }]))
      return { id, version: one.version, bindings: { ...one.bindings, ...added } }
    }),
  }
}

/** Binds members of many equipment by how their tags are called: hits, misses and several hits are shown before anything is written. */
export function ByPattern({ model, ids, classId, onClose }: { model: PlantModel; ids: readonly string[]; classId: string; onClose(): void }) {
  const [pattern, setPattern] = useState('{name}/{member}')
  const [path, setPath] = useState('')
  const [openOnly, setOpenOnly] = useState(true)
  const [show, setShow] = useState<Show>('all')
  const { busy, run } = useWork()
  const [asked, setAsked] = useState(pattern)
  useEffect(() => {
    const timer = setTimeout(() => setAsked(pattern), 250)
    return () => clearTimeout(timer)
  }, [pattern])
  const parsed = useMemo(() => parseNaming(pattern), [pattern])
  const ready = useMemo(() => parseNaming(asked), [asked])
  const task = useMemo<MatchingTask | null>(
    () => (ready.problems.length === 0 && asked.trim() !== '' ? { do: 'pattern', pattern: asked, ids, openOnly, path: path || null } : null),
    [asked, ready, ids, openOnly, path],
  )
  const { hits, progress, problem } = useMatching(task, model)
  const counts = useMemo(() => {
    const c = { hit: 0, miss: 0, several: 0 }
    for (const h of hits ?? []) c[stateOf(h)]++
    return c
  }, [hits])
  const shown = useMemo(() => (hits ?? []).filter((h) => show === 'all' || stateOf(h) === show), [hits, show])
  const good = (hits ?? []).filter((h) => h.tagIds.length === 1 && h.bound !== 'same')
  const members = model.resolver.members(classId).filter((m) => !m.classId && !m.many)
  const apply = () =>
    run(async () => {
      const done = await equipmentEdits.tell(
        bindMany(
          model,
          good.map((h) => ({ equipmentId: h.equipmentId, path: h.path, tagId: h.tagIds[0]! })),
        ),
        `${countText(good.length)} members filled`,
      )
      if (done) onClose()
    })
  return (
    <Modal
      open
      onClose={onClose}
      width={960}
      title="Bind by a naming pattern"
      note={`${countText(ids.length)} equipment; capitals, spaces, dashes and underscores in tags' names make no difference`}
      foot={
        <>
          <span className="mr-auto text-muted">{progress && <Spinner />}</span>
          <Button onClick={onClose}>Cancel</Button>
          <Button kind="main" busy={busy} disabled={good.length === 0 || progress !== null} onClick={() => void apply()}>
            Bind {countText(good.length)}
          </Button>
        </>
      }
    >
      <div className="grid grid-cols-[1fr_280px] gap-5">
        <TextField
          label="Tags are called"
          mono
          autoFocus
          value={pattern}
          onChange={(e) => setPattern(e.target.value)}
          error={parsed.problems[0]?.message}
          help={`${namingKeys.map((k) => `{${k}}`).join(' ')} {fact.x}; * stands for anything; after a bar: ${Object.keys(templateFilters).join(', ')}`}
        />
        <div>
          <SelectField label="Members" value={path} onChange={(e) => setPath(e.target.value)}>
            <option value="">all</option>
            {members.map((m) => (
              <option key={m.id} value={m.id}>
                {m.label}
              </option>
            ))}
          </SelectField>
          <CheckField label="Only open ones" checked={openOnly} onChange={(e) => setOpenOnly(e.target.checked)} />
        </div>
      </div>
      <div className="my-2 flex items-center gap-3">
        <Choice
          label="Show"
          value={show}
          options={[
            { value: 'all', label: `All ${countText(hits?.length ?? 0)}` },
            { value: 'hit', label: `Hit ${countText(counts.hit)}` },
            { value: 'miss', label: `Miss ${countText(counts.miss)}` },
            { value: 'several', label: `Several ${countText(counts.several)}` },
          ]}
          onChange={(v) => setShow(v)}
        />
      </div>
      {problem && <ProblemNote problem={{ message: problem, hint: 'Load the page again' }} />}
      <HitTable hits={shown} model={model} />
    </Modal>
  )
}

function HitTable({ hits, model }: { hits: readonly NamingHit[]; model: PlantModel }) {
  const box = useRef<HTMLDivElement>(null)
  const virtual = useVirtualizer({ count: hits.length, getScrollElement: () => box.current, estimateSize: () => 26, overscan: 12 })
  const name = (id: string) => model.tags.get(id)?.name ?? ''
  const grid = 'grid grid-cols-[22px_150px_150px_1fr_1fr] items-center gap-2 px-2'
  return (
    <div role="table" aria-label="What the pattern finds" className="rounded-sm border border-line bg-sheet">
      <div className={`${grid} border-b border-line py-1 text-xs font-semibold text-muted`}>
        <span />
        <span>Equipment</span>
        <span>Member</span>
        <span>Looked for</span>
        <span>Found</span>
      </div>
      <div ref={box} className="h-[320px] overflow-auto">
        {hits.length === 0 && <p className="px-2 py-1.5 text-muted">Nothing of that kind.</p>}
        <div className="relative" style={{ height: virtual.getTotalSize() }}>
          {virtual.getVirtualItems().map((i) => {
            const h = hits[i.index]!
            const state = stateOf(h)
            return (
              <div
                key={`${h.equipmentId} ${h.path}`}
                role="row"
                data-hit={state}
                className={`absolute left-0 w-full ${grid}`}
                style={{ height: 26, transform: `translateY(${i.start}px)` }}
              >
                <Glyph state={state === 'hit' ? 'good' : state === 'several' ? 'uncertain' : 'idle'} title={state} />
                <span className="truncate">{model.equipment.get(h.equipmentId)?.name}</span>
                <span className="truncate">{h.label}</span>
                <span className="truncate font-mono text-[12px] text-muted">{h.wanted}</span>
                <span className="truncate" title={h.tagIds.map(name).join('\n')}>
                  {state === 'miss' ? (
                    <span className="text-muted">none</span>
                  ) : state === 'hit' ? (
                    <>
                      {name(h.tagIds[0]!)}
                      {h.bound !== 'no' && (
                        <span className="ml-2 text-xs text-muted">{h.bound === 'same' ? 'filled by it already' : 'filled by something else'}</span>
                      )}
                    </>
                  ) : (
                    <span className="text-uncertain">
                      {h.tagIds.length}: {h.tagIds.slice(0, 3).map(name).join(', ')}
                    </span>
                  )}
                </span>
              </div>
            )
          })}
        </div>
      </div>
    </div>
  )
}
