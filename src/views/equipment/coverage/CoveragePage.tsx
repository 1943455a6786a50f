import { useMemo, useState } from 'react'
import { type CellState, type CoverageCounts, cellState, noCoverage } from '~/core/equipment/coverage'
import { byName, pathText } from '~/core/equipment/hierarchy'
import { Button } from '~/ui/Button'
import { FilterBox } from '~/ui/Field'
import { Glyph } from '~/ui/Glyph'
import { Empty, Loading, ProblemNote } from '~/ui/Notes'
import { ThreeParts } from '~/ui/Parts'
import { countText } from '~/ui/time'
import { go, useFilterInAddress, useInAddress, useTextInAddress } from '../../app/address'
import { failureIn } from '../../app/api'
import { useMay } from '../../app/caller'
import { Row } from '../../app/Frame'
import { UndoButtons, useUndoKeys } from '../../shared/UndoButtons'
import { BindingEditor } from '../bind/BindingEditor'
import { BindingText } from '../binding-text'
import { EquipmentPeek } from '../EquipmentPeek'
import { equipmentEdits } from '../edits'
import { bindMember } from '../Members'
import { useModel, useStatuses } from '../useModel'
import { ByPattern } from './ByPattern'
import { type Column, CoverageGrid, stateWords } from './CoverageGrid'
import { Proposals } from './Proposals'

const order: readonly CellState[] = ['missing', 'broken', 'mismatch', 'bad', 'uncertain', 'open', 'good']

export function CoveragePage() {
  const { model, pending, error } = useModel()
  const status = useStatuses()
  const mayEdit = useMay('engineer')
  const [classId, setClass] = useTextInAddress('class', 'push')
  const [filter, setFilter] = useFilterInAddress()
  const [state, setState] = useInAddress<CellState | null>(
    (params) => order.find((s) => s === params.get('state')) ?? null,
    (s) => ({ state: s }),
  )
  const [chosen, setChosen] = useInAddress<{ id: string; path: string } | null>(
    (params) => (params.get('id') ? { id: params.get('id')!, path: params.get('member') ?? '' } : null),
    (c) => ({ id: c?.id ?? null, member: c?.path ?? null }),
  )
  const [editing, setEditing] = useState(false)
  const [open, setOpen] = useState<'pattern' | 'propose' | null>(null)
  useUndoKeys(equipmentEdits, mayEdit)
  const used = useMemo(() => {
    const count = new Map<string, number>()
    for (const e of model.list) if (e.classId) count.set(e.classId, (count.get(e.classId) ?? 0) + 1)
    return [...count]
      .flatMap(([id, n]) => (model.classes.has(id) ? [{ id, name: model.classes.get(id)!.name, n }] : []))
      .sort((a, b) => byName(a.name, b.name))
  }, [model])
  const cls = used.find((c) => c.id === classId) ?? used[0]
  const all = useMemo(() => model.list.filter((e) => e.classId === cls?.id).sort((a, b) => byName(a.name, b.name)), [model, cls?.id])
  const { counts, states } = useMemo(() => {
    const total = noCoverage()
    const by = new Map<string, Set<CellState>>()
    for (const e of all) {
      const own = new Set<CellState>()
      for (const leaf of model.resolver.leavesOf(e)) {
        const s = cellState(leaf, status)
        total[s]++
        own.add(s)
      }
      by.set(e.id, own)
    }
    return { counts: total as CoverageCounts, states: by }
  }, [all, model, status])
  const words = filter.trim().toLowerCase()
  const rows = useMemo(
    () => all.filter((e) => (!words || pathText(model.equipment, e.id).toLowerCase().includes(words)) && (!state || states.get(e.id)!.has(state))),
    [all, words, state, states, model],
  )
  // Equipment of one class may have lists of different lengths: every place that one of them has is a column.
  const columns = useMemo<Column[]>(() => {
    const out = new Map<string, Column>()
    for (const e of all)
      for (const l of model.resolver.leavesOf(e)) {
        const id = l.keys.join('.')
        if (!out.has(id)) out.set(id, { id, label: l.label, member: l.member })
      }
    return [...out.values()]
  }, [all, model])
  const ids = useMemo(() => rows.map((e) => e.id), [rows])
  const one = chosen ? model.equipment.get(chosen.id) : undefined
  const leaf = one && model.resolver.leavesOf(one).find((l) => l.keys.join('.') === chosen!.path)
  const bindable = leaf && leaf.owner.id === one.id && !leaf.member.classId && !(leaf.member.many && leaf.path === leaf.member.id)
  const total = Object.values(counts).reduce((a, b) => a + b, 0)
  return (
    <>
      <Row station="equipment" page="Coverage">
        <UndoButtons edits={equipmentEdits} mayEdit={mayEdit} />
        <Button disabled={!mayEdit || rows.length === 0} onClick={() => setOpen('propose')}>
          Proposals
        </Button>
        <Button kind="main" disabled={!mayEdit || rows.length === 0} onClick={() => setOpen('pattern')}>
          Bind by pattern
        </Button>
      </Row>
      <ThreeParts
        id="coverage"
        leftWidth={214}
        peekWidth={340}
        left={
          used.length > 0 && (
            <>
              <ul aria-label="Classes">
                {used.map((c) => (
                  <li key={c.id}>
                    <button
                      type="button"
                      aria-pressed={c.id === cls?.id}
                      onClick={() => {
                        setClass(c.id)
                        setChosen(null)
                        setState(null)
                      }}
                      className={`flex h-[26px] w-full items-center justify-between border-l-2 px-3 text-left ${c.id === cls?.id ? 'border-slate bg-wash' : 'border-transparent hover:bg-well'}`}
                    >
                      <span className="truncate">{c.name}</span>
                      <span className="font-mono text-[12px] text-muted">{countText(c.n)}</span>
                    </button>
                  </li>
                ))}
              </ul>
              <div className="mx-3 my-1.5 border-t border-line" />
              <ul aria-label="States">
                {order.map((s) => (
                  <li key={s}>
                    <button
                      type="button"
                      aria-pressed={state === s}
                      onClick={() => setState(state === s ? null : s)}
                      className={`flex h-[24px] w-full items-center gap-2 border-l-2 px-3 text-left ${state === s ? 'border-slate bg-wash' : 'border-transparent hover:bg-well'} ${counts[s] === 0 ? 'text-muted' : ''}`}
                    >
                      <span className="w-[14px]" aria-hidden="true">
                        {counts[s] > 0 && <Glyph state={stateWords[s].glyph!} />}
                      </span>
                      {stateWords[s].label}
                      <span className="ml-auto font-mono text-[12px] text-muted">{countText(counts[s])}</span>
                    </button>
                  </li>
                ))}
              </ul>
            </>
          )
        }
        peek={
          one &&
          leaf && (
            <>
              <h2 className="text-[15px] font-semibold">
                {one.name}: {leaf.label}
              </h2>
              <div className="mb-2 text-muted">{pathText(model.equipment, one.id)}</div>
              {leaf.problem && <div className={leaf.fill ? 'text-uncertain' : 'text-bad'}>{leaf.problem.message}</div>}
              <div className="my-1.5">
                {editing && bindable ? (
                  <BindingEditor
                    key={`${one.id} ${leaf.path}`}
                    equipment={one}
                    leaf={leaf}
                    model={model}
                    onBind={(b) => void bindMember(one, leaf.path, leaf.label, b).then((done) => done && setEditing(false))}
                    onClose={() => setEditing(false)}
                  />
                ) : (
                  <div className="flex items-start gap-2">
                    <span className="min-w-0 flex-1">
                      <BindingText leaf={leaf} model={model} />
                    </span>
                    {bindable && (
                      <Button small disabled={!mayEdit} onClick={() => setEditing(true)} aria-label={`Mend ${leaf.label}`}>
                        {leaf.binding && !leaf.byClass ? 'Change' : 'Bind'}
                      </Button>
                    )}
                  </div>
                )}
              </div>
              <EquipmentPeek equipment={one} model={model} chosen={chosen!.path} />
            </>
          )
        }
      >
        {pending ? (
          <Loading rows={10} />
        ) : error ? (
          <div className="p-4">
            <ProblemNote problem={failureIn(error)} />
          </div>
        ) : !cls ? (
          <Empty
            title="No equipment with a class yet"
            action={
              <Button kind="main" onClick={() => go('/equipment')}>
                Go to the plant
              </Button>
            }
          >
            Here every member of every equipment is seen at once: what fills it, what is empty, what does not fit.
          </Empty>
        ) : (
          <>
            <div className="flex h-[36px] shrink-0 items-center gap-3 border-b border-line px-3">
              <FilterBox value={filter} onChange={setFilter} placeholder="filter equipment" />
              <span className="ml-auto font-mono text-[12.5px] text-muted" data-covered>
                {countText(total - counts.missing - counts.open - counts.broken)} of {countText(total)} members filled, {countText(rows.length)}{' '}
                equipment
              </span>
            </div>
            {rows.length === 0 ? (
              <p className="p-6 text-center text-muted">
                No equipment fits.{' '}
                <button
                  type="button"
                  className="text-slate underline"
                  onClick={() => {
                    setFilter('')
                    setState(null)
                  }}
                >
                  Show all
                </button>
              </p>
            ) : (
              <CoverageGrid
                rows={rows}
                columns={columns}
                model={model}
                status={status}
                chosen={chosen}
                onChoose={(id, path) => {
                  setChosen({ id, path })
                  setEditing(false)
                }}
              />
            )}
          </>
        )}
      </ThreeParts>
      {open === 'pattern' && cls && <ByPattern model={model} ids={ids} classId={cls.id} onClose={() => setOpen(null)} />}
      {open === 'propose' && <Proposals model={model} ids={ids} onClose={() => setOpen(null)} />}
    </>
  )
}
