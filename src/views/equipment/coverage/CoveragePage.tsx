import { useMemo, useState } from 'react'
import type { CellState } from '~/core/equipment/coverage'
import { Button } from '~/ui/Button'
import { FilterBox } from '~/ui/Field'
import { Empty, Loading } from '~/ui/Notes'
import { ThreeParts } from '~/ui/Parts'
import { countText } from '~/ui/time'
import { go, useFilterInAddress, useInAddress, useTextInAddress } from '../../app/address'
import { useMay } from '../../app/caller'
import { Row } from '../../app/Frame'
import { Failed } from '../../shared/Failed'
import { UndoButtons, useUndoKeys } from '../../shared/UndoButtons'
import { equipmentEdits } from '../edits'
import { ByPattern } from './ByPattern'
import { CoverageGrid } from './CoverageGrid'
import { MemberPeek } from './MemberPeek'
import { Proposals } from './Proposals'
import { Shelf, stateOrder } from './Shelf'
import { useCoverage, useCoverageModel } from './useCoverage'

export function CoveragePage() {
  const mayEdit = useMay('engineer')
  const [classId, setClass] = useTextInAddress('class', 'push')
  const [filter, setFilter] = useFilterInAddress()
  const [state, setState] = useInAddress<CellState | null>(
    (params) => stateOrder.find((s) => s === params.get('state')) ?? null,
    (s) => ({ state: s }),
  )
  const [chosen, setChosen] = useInAddress<{ id: string; path: string } | null>(
    (params) => (params.get('id') ? { id: params.get('id')!, path: params.get('member') ?? '' } : null),
    (c) => ({ id: c?.id ?? null, member: c?.path ?? null }),
  )
  const [open, setOpen] = useState<'pattern' | 'propose' | null>(null)
  useUndoKeys(equipmentEdits, mayEdit)
  const sought = { classId, words: filter.trim().toLowerCase(), state }
  const { model, pending, error, asked } = useCoverageModel(sought)
  const { used, cls, counts, rows, columns, status } = useCoverage(model, sought)
  const ids = useMemo(() => rows.map((e) => e.id), [rows])
  const one = chosen ? model.equipment.get(chosen.id) : undefined
  const leaf = one && model.resolver.leavesOf(one).find((l) => l.keys.join('.') === chosen!.path)
  const changeClass = (id: string) => {
    setClass(id)
    setChosen(null)
    setState(null)
  }
  const total = Object.values(counts).reduce((a, b) => a + b, 0)
  return (
    <>
      <Row station="equipment" page="Coverage">
        <UndoButtons edits={equipmentEdits} mayEdit={mayEdit} />
        <Button disabled={!mayEdit || !model.whole || rows.length === 0} onClick={() => setOpen('propose')}>
          Proposals
        </Button>
        <Button kind="main" disabled={!mayEdit || !model.whole || rows.length === 0} onClick={() => setOpen('pattern')}>
          Bind by pattern
        </Button>
      </Row>
      <ThreeParts
        id="coverage"
        leftWidth={214}
        peekWidth={340}
        left={
          pending ? (
            <Loading rows={10} />
          ) : used.length === 0 ? null : (
            <Shelf
              used={used}
              classId={cls?.id ?? null}
              counts={model.whole ? counts : null}
              state={state}
              onClass={changeClass}
              onState={setState}
            />
          )
        }
        peek={
          pending && chosen ? (
            <Loading rows={8} />
          ) : (
            one && leaf && <MemberPeek key={`${one.id} ${leaf.path}`} one={one} leaf={leaf} model={model} mayEdit={mayEdit} path={chosen!.path} />
          )
        }
      >
        {pending ? (
          <Loading rows={10} />
        ) : error ? (
          <Failed of={asked} />
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
                {model.whole
                  ? `${countText(total - counts.missing - counts.open - counts.broken)} of ${countText(total)} members filled, ${countText(rows.length)} equipment`
                  : '...'}
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
                onChoose={(id, path) => setChosen({ id, path })}
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
