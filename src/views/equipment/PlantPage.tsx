import { DndContext, DragOverlay, PointerSensor, useSensor, useSensors } from '@dnd-kit/core'
import { Plus } from 'lucide-react'
import { type ReactNode, useCallback, useMemo, useState } from 'react'
import type { Equipment, Level } from '~/contract/equipment'
import { coverageOf, rollUp } from '~/core/equipment/coverage'
import { pathText } from '~/core/equipment/hierarchy'
import { Button } from '~/ui/Button'
import { Choice, FilterBox } from '~/ui/Field'
import { Menu } from '~/ui/Menu'
import { Loading } from '~/ui/Notes'
import { ThreeParts } from '~/ui/Parts'
import { countText } from '~/ui/time'
import { useFilterInAddress, useTextInAddress } from '../app/address'
import { useMay } from '../app/caller'
import { Row } from '../app/Frame'
import { Failed } from '../shared/Failed'
import { EmptyStation } from '../shared/Onward'
import { UndoButtons, useUndoKeys } from '../shared/UndoButtons'
import { EquipmentForm } from './EquipmentForm'
import { EquipmentPeek } from './EquipmentPeek'
import { equipmentEdits } from './edits'
import { Inside } from './Inside'
import { Known } from './Known'
import { Members } from './Members'
import { FromFolders } from './many/FromFolders'
import { exportPlant, FromSheet } from './many/FromSheet'
import { Numbered } from './many/Numbered'
import { PlantTree } from './PlantTree'
import { TagShelf } from './TagShelf'
import { type PlantModel, useModel, useStatuses } from './useModel'
import { firstShown, usePlantHands } from './usePlantHands'

const below: Record<Level, Level> = { enterprise: 'site', site: 'area', area: 'work centre', 'work centre': 'work unit', 'work unit': 'work unit' }

type Open =
  | { what: 'edit'; one: Equipment }
  | { what: 'add'; under: Equipment | null }
  | { what: 'numbered' }
  | { what: 'folders' }
  | { what: 'file' }

export function PlantPage() {
  const [cursor] = useTextInAddress('id')
  const { model, pending, error, asked } = useModel(
    useCallback(
      (all: readonly Equipment[]) => {
        const shown = all.find((e) => e.id === cursor) ?? firstShown(all)
        return shown ? [shown.id] : []
      },
      [cursor],
    ),
  )
  const status = useStatuses()
  const mayEdit = useMay('engineer')
  const [open, setOpen] = useState<Open | null>(null)
  const [filter, setFilter] = useFilterInAddress()
  const [member, setMember] = useTextInAddress('member')
  const [shelf, setShelf] = useState<'plant' | 'tags'>('plant')
  const plant = usePlantHands(model, { mayEdit, onEdit: (one) => setOpen({ what: 'edit', one }), onGo: () => setMember(null) })
  const { selected, chosen, go } = plant
  useUndoKeys(equipmentEdits, mayEdit)
  const sensors = useSensors(useSensor(PointerSensor, { activationConstraint: { distance: 6 } }))
  const { list, equipment: byId } = model
  const qualities = useMemo(
    () => (model.whole ? rollUp(byId, new Map(list.map((e) => [e.id, coverageOf(model.resolver, e, status).quality]))) : new Map()),
    [byId, list, model, status],
  )
  const usedTags = useMemo(() => new Set(list.flatMap((e) => Object.values(e.bindings).flatMap((b) => (b.kind === 'tag' ? [b.tagId] : [])))), [list])
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
    <DndContext sensors={sensors} onDragStart={plant.start} onDragEnd={plant.drop} onDragCancel={plant.stop}>
      <Row station="equipment" page="Plant">
        {selected.size > 1 && <span className="text-muted">{countText(selected.size)} chosen</span>}
        <UndoButtons edits={equipmentEdits} mayEdit={mayEdit} />
        {chosen && (
          <>
            <Button disabled={!mayEdit} onClick={() => void plant.remove()}>
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
          pending ? (
            <Loading rows={12} />
          ) : list.length === 0 ? null : (
            <Shelf shown={shelf} onShow={setShelf}>
              {shelf === 'tags' && !model.whole && <Loading rows={10} />}
              {shelf === 'tags' ? (
                model.whole && <TagShelf tags={model.tagList} used={usedTags} />
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
                    onSelect={plant.select}
                    onKey={plant.key}
                  />
                </>
              )}
            </Shelf>
          )
        }
        peek={pending ? <Loading rows={8} /> : chosen && cls && <EquipmentPeek key={chosen.id} equipment={chosen} model={model} chosen={member} />}
      >
        {pending ? (
          <Loading rows={10} />
        ) : error ? (
          <Failed of={asked} />
        ) : !chosen ? (
          <EmptyStation needs="engineer" title="No equipment yet" action={add}>
            Begin at the top with the enterprise; sites, areas, work centres and units follow under it.
          </EmptyStation>
        ) : (
          <One chosen={chosen} model={model} qualities={qualities} mayEdit={mayEdit} member={member} onMember={setMember} onGo={go} />
        )}
      </ThreeParts>
      <DragOverlay dropAnimation={null}>
        {plant.dragged && (
          <div className="w-max max-w-72 truncate rounded-sm border border-slate bg-sheet px-2 py-1 shadow-[0_4px_14px_rgb(0_0_0/0.18)]">
            {plant.dragged}
          </div>
        )}
      </DragOverlay>
      {open && <Sheets open={open} model={model} chosen={chosen ?? null} onClose={() => setOpen(null)} onMade={go} />}
    </DndContext>
  )
}

/** What can be taken from the left: equipment of the plant, or tags to drag. */
function Shelf({ shown, onShow, children }: { shown: 'plant' | 'tags'; onShow(what: 'plant' | 'tags'): void; children: ReactNode }) {
  return (
    <div className="flex h-full min-h-0 flex-col">
      <div className="px-2 pb-1.5">
        <Choice
          label="On the left"
          value={shown}
          options={[
            { value: 'plant', label: 'Plant' },
            { value: 'tags', label: 'Tags to drag' },
          ]}
          onChange={onShow}
        />
      </div>
      {children}
    </div>
  )
}

interface OneProps {
  chosen: Equipment
  model: PlantModel
  qualities: ReadonlyMap<string, 'good' | 'uncertain' | 'bad'>
  mayEdit: boolean
  member: string | null
  onMember(member: string | null): void
  onGo(id: string): void
}

/** One piece of equipment: where it stands, what fills its members or what stands under it, what is known of it. */
function One({ chosen, model, qualities, mayEdit, member, onMember, onGo }: OneProps) {
  const cls = chosen.classId ? model.classes.get(chosen.classId) : undefined
  return (
    <div className="p-4">
      <h2 className="text-[17px] font-semibold">{chosen.name}</h2>
      <div className="mb-4 text-muted">
        {pathText(model.equipment, chosen.id)} · {chosen.level}
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
        <Members key={chosen.id} equipment={chosen} model={model} mayEdit={mayEdit} chosen={member} onChoose={onMember} />
      ) : (
        <Inside one={chosen} model={model} qualities={qualities} onChoose={onGo} />
      )}
      <Known key={`${chosen.id} ${chosen.version}`} equipment={chosen} mayEdit={mayEdit} />
    </div>
  )
}

interface SheetsProps {
  open: Open
  model: PlantModel
  chosen: Equipment | null
  onClose(): void
  onMade(id: string): void
}

function Sheets({ open, model, chosen, onClose, onMade }: SheetsProps) {
  if (open.what === 'numbered') return <Numbered model={model} under={chosen} onClose={onClose} onMade={onMade} />
  if (open.what === 'folders') return <FromFolders model={model} under={chosen} onClose={onClose} onMade={onMade} />
  if (open.what === 'file') return <FromSheet model={model} onClose={onClose} />
  const parent = open.what === 'add' ? open.under : open.one.parentId ? (model.equipment.get(open.one.parentId) ?? null) : null
  return (
    <EquipmentForm
      equipment={open.what === 'edit' ? open.one : null}
      parent={parent}
      level={open.what === 'add' ? (open.under ? below[open.under.level] : 'enterprise') : open.one.level}
      model={model}
      onClose={onClose}
      onSaved={(e) => {
        onMade(e.id)
        onClose()
      }}
    />
  )
}
