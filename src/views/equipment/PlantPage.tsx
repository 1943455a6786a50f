import { ChevronDown, ChevronRight, Plus } from 'lucide-react'
import { useMemo, useState } from 'react'
import { toast } from 'sonner'
import type { Equipment, EquipmentClass, Level } from '~/contract/equipment'
import type { Caller } from '~/contract/person'
import { byName, pathText } from '~/core/equipment/hierarchy'
import { Button } from '~/ui/Button'
import { Glyph } from '~/ui/Glyph'
import { Empty, Loading, ProblemNote } from '~/ui/Notes'
import { ThreeParts } from '~/ui/Parts'
import { call, failureIn, refresh, useCall } from '../app/api'
import { useMay } from '../app/caller'
import { Frame, Row } from '../app/Frame'
import { tellFailure } from '../shared/problems'
import { EquipmentForm } from './EquipmentForm'
import { Members } from './Members'
import { PayloadPeek } from './PayloadPeek'

export function PlantPage({ caller }: { caller: Caller }) {
  return (
    <Frame caller={caller} station="equipment" page="Plant">
      <Plant />
    </Frame>
  )
}

const below: Record<Level, Level> = { enterprise: 'site', site: 'area', area: 'work centre', 'work centre': 'work unit', 'work unit': 'work unit' }

function Plant() {
  const equipment = useCall('listEquipment')
  const classes = useCall('listClasses')
  const mayEdit = useMay('engineer')
  const [chosenId, setChosen] = useState<string | null>(() => new URLSearchParams(location.search).get('id'))
  const [closed, setClosed] = useState<Set<string>>(new Set())
  const [form, setForm] = useState<null | { edit: Equipment } | { under: Equipment | null }>(null)
  const list = equipment.data ?? []
  const byId = useMemo(() => new Map(list.map((e) => [e.id, e])), [list])
  const children = useMemo(() => {
    const map = new Map<string | null, Equipment[]>()
    for (const e of list) map.set(e.parentId, [...(map.get(e.parentId) ?? []), e])
    for (const c of map.values()) c.sort((a, b) => byName(a.name, b.name))
    return map
  }, [list])
  const classOf = (e: Equipment) => classes.data?.find((c) => c.id === e.classId)
  const chosen = (chosenId ? byId.get(chosenId) : undefined) ?? list.find((e) => e.classId !== null) ?? list[0]

  const remove = async (e: Equipment) => {
    try {
      await call('removeEquipment', { params: { id: e.id } })
      await refresh('listEquipment', 'listClasses')
      const { id: _i, version: _v, ...draft } = e
      toast(`${e.name} removed`, {
        action: {
          label: 'Undo',
          onClick: () => void call('addEquipment', { body: draft }).then(() => refresh('listEquipment', 'listClasses'), tellFailure),
        },
      })
    } catch (x) {
      tellFailure(x)
    }
  }
  const add = (
    <Button kind="main" disabled={!mayEdit} title={mayEdit ? '' : 'Needs the role engineer'} onClick={() => setForm({ under: chosen ?? null })}>
      <Plus size={14} /> Add equipment
    </Button>
  )
  return (
    <>
      <Row station="equipment" page="Plant">
        {chosen && (
          <>
            <Button
              disabled={!mayEdit || (children.get(chosen.id)?.length ?? 0) > 0}
              title={(children.get(chosen.id)?.length ?? 0) > 0 ? 'There is equipment under it' : ''}
              onClick={() => void remove(chosen)}
            >
              Remove
            </Button>
            <Button disabled={!mayEdit} onClick={() => setForm({ edit: chosen })}>
              Name and place
            </Button>
          </>
        )}
        {add}
      </Row>
      <ThreeParts
        id="plant"
        leftWidth={230}
        peekWidth={330}
        left={
          list.length > 0 && (
            <div role="tree" aria-label="Plant">
              <Branch
                nodes={children.get(null) ?? []}
                depth={0}
                childrenOf={children}
                chosen={chosen?.id ?? null}
                onChoose={setChosen}
                closed={closed}
                setClosed={setClosed}
                classOf={classOf}
              />
            </div>
          )
        }
        peek={chosen && classOf(chosen) && <PayloadPeek key={chosen.id} equipment={chosen} cls={classOf(chosen)!} byId={byId} />}
      >
        {equipment.isPending || classes.isPending ? (
          <Loading rows={10} />
        ) : equipment.error ? (
          <div className="p-4">
            <ProblemNote problem={failureIn(equipment.error)} />
          </div>
        ) : !chosen ? (
          <Empty title="No equipment yet" action={add}>
            Begin at the top with the enterprise; sites, areas, work centres and units follow under it.
          </Empty>
        ) : (
          <div className="p-4">
            <h2 className="text-[17px] font-semibold">{chosen.name}</h2>
            <div className="mb-4 text-muted">
              {pathText(byId, chosen.id)} · {chosen.level}
              {classOf(chosen) && ` · class ${classOf(chosen)!.name}`}
            </div>
            {classOf(chosen) ? (
              <Members key={`${chosen.id} ${chosen.version}`} equipment={chosen} cls={classOf(chosen)!} mayEdit={mayEdit} />
            ) : (
              <Inside nodes={children.get(chosen.id) ?? []} classOf={classOf} onChoose={setChosen} />
            )}
          </div>
        )}
      </ThreeParts>
      {form && (
        <EquipmentForm
          equipment={'edit' in form ? form.edit : null}
          parent={'under' in form ? form.under : form.edit.parentId ? (byId.get(form.edit.parentId) ?? null) : null}
          level={'under' in form ? (form.under ? below[form.under.level] : 'enterprise') : form.edit.level}
          list={list}
          classes={classes.data ?? []}
          onClose={() => setForm(null)}
          onSaved={(e) => {
            setChosen(e.id)
            setForm(null)
          }}
        />
      )}
    </>
  )
}

function Inside({
  nodes,
  classOf,
  onChoose,
}: {
  nodes: readonly Equipment[]
  classOf(e: Equipment): EquipmentClass | undefined
  onChoose(id: string): void
}) {
  if (nodes.length === 0) return <p className="text-muted">It has no class, so it sends nothing itself; and nothing stands under it yet.</p>
  return (
    <ul className="max-w-lg">
      {nodes.map((n) => (
        <li key={n.id} className="border-b border-line">
          <button type="button" className="flex w-full items-center gap-2 py-1.5 text-left hover:bg-well/60" onClick={() => onChoose(n.id)}>
            <Bound equipment={n} cls={classOf(n)} />
            <span className="font-semibold">{n.name}</span>
            <span className="ml-auto text-muted">{classOf(n)?.name ?? n.level}</span>
          </button>
        </li>
      ))}
    </ul>
  )
}

function Bound({ equipment, cls }: { equipment: Equipment; cls: EquipmentClass | undefined }) {
  if (!cls) return <span className="w-[14px]" />
  const bound = cls.members.filter((m) => equipment.bindings[m.key]).length
  return (
    <Glyph
      state={bound === cls.members.length ? 'good' : bound > 0 ? 'uncertain' : 'idle'}
      title={`${bound} of ${cls.members.length} members bound`}
    />
  )
}

interface BranchProps {
  nodes: readonly Equipment[]
  depth: number
  childrenOf: ReadonlyMap<string | null, Equipment[]>
  chosen: string | null
  closed: ReadonlySet<string>
  onChoose(id: string): void
  setClosed(s: Set<string>): void
  classOf(e: Equipment): EquipmentClass | undefined
}

function Branch({ nodes, depth, ...rest }: BranchProps) {
  const { childrenOf, chosen, closed, onChoose, setClosed, classOf } = rest
  return nodes.map((n) => {
    const under = childrenOf.get(n.id) ?? []
    const open = !closed.has(n.id)
    const toggle = () => {
      const next = new Set(closed)
      if (!next.delete(n.id)) next.add(n.id)
      setClosed(next)
    }
    return (
      <div
        key={n.id}
        role="treeitem"
        tabIndex={-1}
        aria-selected={n.id === chosen}
        aria-expanded={under.length > 0 ? open : undefined}
        aria-label={n.name}
      >
        <div
          className={`flex h-[26px] items-center border-l-2 pr-2 ${n.id === chosen ? 'border-slate bg-wash' : 'border-transparent hover:bg-well'}`}
          style={{ paddingLeft: 4 + depth * 13 }}
        >
          {under.length > 0 ? (
            <button type="button" className="grid size-[18px] place-items-center text-muted" aria-label={open ? 'Close' : 'Open'} onClick={toggle}>
              {open ? <ChevronDown size={13} /> : <ChevronRight size={13} />}
            </button>
          ) : (
            <span className="w-[18px]" />
          )}
          <button type="button" className="flex min-w-0 flex-1 items-center gap-2 text-left" onClick={() => onChoose(n.id)}>
            <span className="truncate">{n.name}</span>
            <span className="ml-auto shrink-0">
              {classOf(n) ? <Bound equipment={n} cls={classOf(n)} /> : <span className="font-mono text-[12px] text-muted">{under.length || ''}</span>}
            </span>
          </button>
        </div>
        {open && under.length > 0 && <Branch nodes={under} depth={depth + 1} {...rest} />}
      </div>
    )
  })
}
