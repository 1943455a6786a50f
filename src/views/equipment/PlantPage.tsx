import { DndContext, type DragEndEvent, DragOverlay, type DragStartEvent, PointerSensor, useSensor, useSensors } from '@dnd-kit/core'
import { Plus } from 'lucide-react'
import { type KeyboardEvent, useMemo, useState } from 'react'
import { toast } from 'sonner'
import type { Equipment, EquipmentClass, Level } from '~/contract/equipment'
import type { Tag } from '~/contract/tag'
import { coverageOf, rollUp } from '~/core/equipment/coverage'
import { aLevel, branchOf, mayHangUnder, pathText } from '~/core/equipment/hierarchy'
import type { Leaf } from '~/core/equipment/resolve'
import { Button } from '~/ui/Button'
import { Choice, FilterBox } from '~/ui/Field'
import { Glyph } from '~/ui/Glyph'
import { Menu } from '~/ui/Menu'
import { Empty, Loading, ProblemNote } from '~/ui/Notes'
import { ThreeParts } from '~/ui/Parts'
import { countText } from '~/ui/time'
import { useFilterInAddress, useTextInAddress } from '../app/address'
import { failureIn } from '../app/api'
import { useMay } from '../app/caller'
import { Row } from '../app/Frame'
import { UndoButtons, useUndoKeys } from '../shared/UndoButtons'
import { EquipmentForm } from './EquipmentForm'
import { EquipmentPeek } from './EquipmentPeek'
import { equipmentEdits } from './edits'
import { Known } from './Known'
import { bindMember, Members } from './Members'
import { FromFolders } from './many/FromFolders'
import { exportPlant, FromSheet } from './many/FromSheet'
import { Numbered } from './many/Numbered'
import { PlantTree } from './PlantTree'
import { TagShelf } from './TagShelf'
import { type PlantModel, useModel, useStatuses } from './useModel'

const below: Record<Level, Level> = { enterprise: 'site', site: 'area', area: 'work centre', 'work centre': 'work unit', 'work unit': 'work unit' }

type Open =
  | { what: 'edit'; one: Equipment }
  | { what: 'add'; under: Equipment | null }
  | { what: 'numbered' }
  | { what: 'folders' }
  | { what: 'file' }

export function PlantPage() {
  const { model, pending, error } = useModel()
  const status = useStatuses()
  const mayEdit = useMay('engineer')
  const [selected, setSelected] = useState<ReadonlySet<string>>(() => {
    const id = new URLSearchParams(location.search).get('id')
    return new Set(id ? [id] : [])
  })
  const [cursor, setCursor] = useTextInAddress('id')
  const [member, setMember] = useTextInAddress('member')
  const [filter, setFilter] = useFilterInAddress()
  const [shelf, setShelf] = useState<'plant' | 'tags'>('plant')
  const [open, setOpen] = useState<Open | null>(null)
  const [cut, setCut] = useState<readonly string[]>([])
  const [dragged, setDragged] = useState<string | null>(null)
  useUndoKeys(equipmentEdits, mayEdit)
  const sensors = useSensors(useSensor(PointerSensor, { activationConstraint: { distance: 6 } }))
  const { list, equipment: byId } = model
  const chosen = (cursor ? byId.get(cursor) : undefined) ?? list.find((e) => e.classId !== null) ?? list[0]
  const picked = [...selected].flatMap((id) => byId.get(id) ?? [])
  const qualities = useMemo(
    () => rollUp(byId, new Map(list.map((e) => [e.id, coverageOf(model.resolver, e, status).quality]))),
    [byId, list, model, status],
  )
  const usedTags = useMemo(() => new Set(list.flatMap((e) => Object.values(e.bindings).flatMap((b) => (b.kind === 'tag' ? [b.tagId] : [])))), [list])
  const go = (id: string) => {
    setCursor(id)
    setSelected(new Set([id]))
    setMember(null)
  }

  const select = (id: string, held: { shift: boolean; ctrl: boolean }, order: readonly string[]) => {
    if (held.shift && cursor) {
      const [a, b] = [order.indexOf(cursor), order.indexOf(id)]
      setSelected(new Set(order.slice(Math.min(a, b), Math.max(a, b) + 1)))
      return
    }
    if (held.ctrl) {
      const next = new Set(selected)
      if (!next.delete(id)) next.add(id)
      setSelected(next)
      setCursor(id)
      return
    }
    go(id)
  }

  const move = (ids: readonly string[], to: Equipment) => {
    const moved = ids.flatMap((id) => byId.get(id) ?? []).filter((e) => e.parentId !== to.id && e.id !== to.id)
    if (moved.length === 0) return
    const wrong = moved.find((e) => !mayHangUnder(e.level, to.level) || branchOf(list, e.id).has(to.id))
    if (wrong)
      return void toast.error(`${wrong.name}, ${aLevel(wrong.level)}, cannot stand under ${to.name}, ${aLevel(to.level)}`, {
        description: 'Change its level under Name and place first',
      })
    const label = moved.length === 1 ? `${moved[0]!.name} stands under ${to.name}` : `${moved.length} stand under ${to.name}`
    void equipmentEdits.tell({ change: moved.map((e) => ({ id: e.id, version: e.version, parentId: to.id })) }, label)
  }

  const drop = (e: DragEndEvent) => {
    setDragged(null)
    const from = e.active.data.current as { tag?: Tag; equipment?: Equipment } | undefined
    const onto = e.over?.data.current as { leaf?: Leaf; place?: Equipment } | undefined
    if (from?.tag && onto?.leaf) void bindMember(onto.leaf.owner, onto.leaf.path, onto.leaf.label, { kind: 'tag', tagId: from.tag.id })
    if (from?.equipment && onto?.place) move(selected.has(from.equipment.id) ? [...selected] : [from.equipment.id], onto.place)
  }
  const start = (e: DragStartEvent) => {
    // Keys that follow are for what is dragged, not for the text that was typed before.
    if (document.activeElement instanceof HTMLInputElement) document.activeElement.blur()
    const from = e.active.data.current as { tag?: Tag; equipment?: Equipment }
    const many = from.equipment && selected.has(from.equipment.id) && selected.size > 1 ? `${selected.size} equipment` : undefined
    setDragged(from.tag?.name ?? many ?? from.equipment?.name ?? null)
  }

  const key = (e: KeyboardEvent, id: string) => {
    if (!mayEdit) return
    const ctrl = e.ctrlKey || e.metaKey
    if (ctrl && e.key === 'x') {
      setCut(selected.size > 0 ? [...selected] : [id])
      toast(`${selected.size > 1 ? `${selected.size} equipment` : byId.get(id)?.name} picked up: go to its new place and press Ctrl+V`)
    } else if (ctrl && e.key === 'v' && cut.length > 0) {
      move(cut, byId.get(id)!)
      setCut([])
    } else if (e.key === 'F2') setOpen({ what: 'edit', one: byId.get(id)! })
    else if (e.key === 'Delete') void remove()
    else return
    e.preventDefault()
  }

  const remove = async () => {
    const going = picked.length > 0 ? picked : chosen ? [chosen] : []
    // With what stands under it, which the message then counts.
    const all = new Set(going.flatMap((e) => [...branchOf(list, e.id)]))
    const label = all.size === 1 ? `${going[0]!.name} removed` : `${countText(all.size)} equipment removed`
    const done = await equipmentEdits.tell({ remove: [...all].map((id) => ({ id, version: byId.get(id)!.version })) }, label)
    if (done) {
      setSelected(new Set())
      setCursor(null)
    }
  }
  const add = (
    <Button
      kind="main"
      disabled={!mayEdit}
      title={mayEdit ? '' : 'Needs the role engineer'}
      onClick={() => setOpen({ what: 'add', under: chosen ?? null })}
    >
      <Plus size={14} /> Add equipment
    </Button>
  )
  const cls = chosen?.classId ? model.classes.get(chosen.classId) : undefined
  return (
    <DndContext sensors={sensors} onDragStart={start} onDragEnd={drop} onDragCancel={() => setDragged(null)}>
      <Row station="equipment" page="Plant">
        {selected.size > 1 && <span className="text-muted">{countText(selected.size)} chosen</span>}
        <UndoButtons edits={equipmentEdits} mayEdit={mayEdit} />
        {chosen && (
          <>
            <Button disabled={!mayEdit} onClick={() => void remove()}>
              Remove
            </Button>
            <Button disabled={!mayEdit} onClick={() => setOpen({ what: 'edit', one: chosen })}>
              Name and place
            </Button>
            <Menu
              items={[
                { label: 'Numbered, from a pattern', onSelect: () => setOpen({ what: 'numbered' }) },
                { label: "From a branch of tags' folders", onSelect: () => setOpen({ what: 'folders' }) },
                { label: 'From CSV or cells of a spreadsheet', onSelect: () => setOpen({ what: 'file' }) },
                { label: 'Export all as CSV', onSelect: () => exportPlant(model) },
              ]}
            >
              <Button disabled={!mayEdit}>Make many</Button>
            </Menu>
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
            <div className="flex h-full min-h-0 flex-col">
              <div className="px-2 pb-1.5">
                <Choice
                  label="On the left"
                  value={shelf}
                  options={[
                    { value: 'plant', label: 'Plant' },
                    { value: 'tags', label: 'Tags to drag' },
                  ]}
                  onChange={(v) => setShelf(v)}
                />
              </div>
              {shelf === 'tags' ? (
                <TagShelf tags={model.tagList} used={usedTags} />
              ) : (
                <>
                  <div className="px-2 pb-1.5">
                    <FilterBox value={filter} onChange={setFilter} placeholder="filter equipment" width="w-full" />
                  </div>
                  <PlantTree
                    list={list}
                    filter={filter}
                    selected={selected.size > 0 ? selected : new Set(chosen ? [chosen.id] : [])}
                    qualities={qualities}
                    mayEdit={mayEdit}
                    onSelect={select}
                    onKey={key}
                  />
                </>
              )}
            </div>
          )
        }
        peek={chosen && cls && <EquipmentPeek key={chosen.id} equipment={chosen} model={model} chosen={member} />}
      >
        {pending ? (
          <Loading rows={10} />
        ) : error ? (
          <div className="p-4">
            <ProblemNote problem={failureIn(error)} />
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
              {cls && (
                <>
                  {' · class '}
                  <a className="text-slate underline" href={`/equipment/classes?id=${cls.id}`}>
                    {cls.name}
                  </a>
                </>
              )}
            </div>
            {cls ? (
              <Members key={chosen.id} equipment={chosen} model={model} mayEdit={mayEdit} chosen={member} onChoose={setMember} />
            ) : (
              <Inside one={chosen} model={model} qualities={qualities} onChoose={go} />
            )}
            <Known key={`${chosen.id} ${chosen.version}`} equipment={chosen} mayEdit={mayEdit} />
          </div>
        )}
      </ThreeParts>
      <DragOverlay dropAnimation={null}>
        {dragged && (
          <div className="w-max max-w-72 truncate rounded-sm border border-slate bg-sheet px-2 py-1 shadow-[0_4px_14px_rgb(0_0_0/0.18)]">
            {dragged}
          </div>
        )}
      </DragOverlay>
      {(open?.what === 'edit' || open?.what === 'add') && (
        <EquipmentForm
          equipment={open.what === 'edit' ? open.one : null}
          parent={open.what === 'add' ? open.under : open.one.parentId ? (byId.get(open.one.parentId) ?? null) : null}
          level={open.what === 'add' ? (open.under ? below[open.under.level] : 'enterprise') : open.one.level}
          model={model}
          onClose={() => setOpen(null)}
          onSaved={(e) => {
            go(e.id)
            setOpen(null)
          }}
        />
      )}
      {open?.what === 'numbered' && <Numbered model={model} under={chosen ?? null} onClose={() => setOpen(null)} onMade={go} />}
      {open?.what === 'folders' && <FromFolders model={model} under={chosen ?? null} onClose={() => setOpen(null)} onMade={go} />}
      {open?.what === 'file' && <FromSheet model={model} onClose={() => setOpen(null)} />}
    </DndContext>
  )
}

function Inside({
  one,
  model,
  qualities,
  onChoose,
}: {
  one: Equipment
  model: PlantModel
  qualities: ReadonlyMap<string, 'good' | 'uncertain' | 'bad'>
  onChoose(id: string): void
}) {
  const nodes = model.resolver.under(one.id)
  const className = (e: Equipment): EquipmentClass | undefined => (e.classId ? model.classes.get(e.classId) : undefined)
  if (nodes.length === 0) return <p className="text-muted">It has no class, so it sends nothing itself; and nothing stands under it yet.</p>
  return (
    <ul className="max-w-lg">
      {nodes.slice(0, 500).map((n) => {
        const quality = qualities.get(n.id)
        return (
          <li key={n.id} className="border-b border-line">
            <button type="button" className="flex w-full items-center gap-2 py-1.5 text-left hover:bg-well/60" onClick={() => onChoose(n.id)}>
              {quality ? <Glyph state={quality} /> : <span className="w-[14px]" />}
              <span className="font-semibold">{n.name}</span>
              <span className="ml-auto text-muted">{className(n)?.name ?? n.level}</span>
            </button>
          </li>
        )
      })}
      {nodes.length > 500 && <li className="py-1.5 text-muted">and {countText(nodes.length - 500)} more: the tree on the left has all</li>}
    </ul>
  )
}
