import { useDroppable } from '@dnd-kit/core'
import { useMemo, useState } from 'react'
import type { Binding, Equipment } from '~/contract/equipment'
import { matchMembers } from '~/core/equipment/matching'
import { isA } from '~/core/equipment/members'
import type { Leaf } from '~/core/equipment/resolve'
import type { Cell } from '~/core/publication/cells/cell'
import { displayValue } from '~/core/value/datatype'
import { formatValue } from '~/core/value/format'
import { qualityOf, qualityText, Status } from '~/core/value/quality'
import { Button } from '~/ui/Button'
import { Glyph } from '~/ui/Glyph'
import { TableHead } from '~/ui/TableHead'
import { BindingEditor } from './bind/BindingEditor'
import { BindingText, convertedText } from './binding-text'
import { equipmentEdits } from './edits'
import { type PlantModel, useCells } from './useModel'

const heads = [
  { key: 'member', head: 'Member' },
  { key: 'filled', head: 'Filled by' },
  { key: 'now', head: 'Now', right: true },
  { key: 'unit', head: 'Unit' },
  { key: 'acts', head: 'What can be done', quiet: true, width: 96 },
]

/** Binds one member, or with null unbinds it. */
export function bindMember(one: Equipment, path: string, label: string, binding: Binding | null) {
  const { [path]: _old, ...rest } = one.bindings
  return equipmentEdits.tell(
    { change: [{ id: one.id, version: one.version, bindings: binding ? { ...rest, [path]: binding } : rest }] },
    binding ? `${label} of ${one.name} is filled` : `${label} of ${one.name} is unbound`,
  )
}

/** The members of one equipment, what fills each, and its value now. */
export function Members({
  equipment,
  model,
  mayEdit,
  chosen,
  onChoose,
}: {
  equipment: Equipment
  model: PlantModel
  mayEdit: boolean
  chosen: string | null
  onChoose(key: string): void
}) {
  const [editing, setEditing] = useState<string | null>(null)
  const leaves = model.resolver.leavesOf(equipment)
  const cells = useCells(leaves)
  const direct = useMemo(() => model.resolver.members(equipment.classId!).filter((m) => !m.classId && !m.many), [model, equipment])
  const hits = useMemo(
    () => (model.whole ? matchMembers(equipment.name, direct, model.tagList) : new Map<string, string>()),
    [equipment.name, direct, model],
  )
  const fresh = [...hits].filter(([id]) => !equipment.bindings[id] && !direct.find((m) => m.id === id)?.calculation)
  return (
    <>
      <Parts equipment={equipment} model={model} mayEdit={mayEdit} />
      <table className="w-full" aria-label="Members">
        <TableHead columns={heads} />
        <tbody>
          {leaves.map((leaf, i) => {
            const key = leaf.keys.join('.')
            return (
              <MemberRow
                key={key}
                leaf={leaf}
                name={key}
                cell={cells[i] ?? null}
                model={model}
                own={leaf.owner.id === equipment.id}
                mayEdit={mayEdit}
                chosen={chosen === key}
                editing={editing === key}
                onChoose={() => onChoose(key)}
                onEdit={(on) => setEditing(on ? key : null)}
                onBind={(b) => void bindMember(equipment, leaf.path, leaf.label, b).then((done) => done && setEditing(null))}
              />
            )
          })}
        </tbody>
      </table>
      {leaves.length === 0 && <p className="py-2 text-muted">The class has no members yet: add them under Classes.</p>}
      {fresh.length > 0 && (
        <div className="mt-3">
          <Button
            disabled={!mayEdit}
            onClick={() =>
              void equipmentEdits.tell(
                {
                  change: [
                    {
                      id: equipment.id,
                      version: equipment.version,
                      bindings: { ...equipment.bindings, ...Object.fromEntries(fresh.map(([id, tagId]) => [id, { kind: 'tag' as const, tagId }])) },
                    },
                  ],
                },
                `${fresh.length} members filled`,
              )
            }
          >
            Bind {fresh.length} by name
          </Button>
          <span className="ml-2 text-muted">
            {fresh.map(([id, tagId]) => `${direct.find((m) => m.id === id)?.key}: ${model.tags.get(tagId)?.name}`).join(', ')}
          </span>
        </div>
      )}
    </>
  )
}

function MemberRow({
  leaf,
  name,
  cell,
  model,
  own,
  mayEdit,
  chosen,
  editing,
  onChoose,
  onEdit,
  onBind,
}: {
  leaf: Leaf
  name: string
  cell: Cell | null
  model: PlantModel
  own: boolean
  mayEdit: boolean
  chosen: boolean
  editing: boolean
  onChoose(): void
  onEdit(on: boolean): void
  onBind(b: Binding | null): void
}) {
  const value = own && !leaf.member.classId && !(leaf.member.many && leaf.path === leaf.member.id)
  const { setNodeRef, isOver } = useDroppable({ id: `member ${leaf.owner.id} ${leaf.path}`, data: { leaf }, disabled: !value || !mayEdit })
  const tag = leaf.binding?.kind === 'tag' ? model.tags.get(leaf.binding.tagId) : undefined
  const bound = leaf.binding !== null && !leaf.byClass
  const shown =
    cell &&
    (tag && cell.value !== null && leaf.convertedFrom === null
      ? formatValue(cell.value, tag)
      : displayValue(cell.value, leaf.member.dataType === 'number'))
  const converted = convertedText(leaf)
  return (
    <tr
      ref={setNodeRef}
      data-member={name}
      onClick={onChoose}
      aria-selected={chosen}
      className={`border-b border-line/70 align-top ${isOver ? 'bg-wash outline outline-1 outline-slate' : chosen ? 'bg-wash/60' : ''}`}
    >
      <td className="px-2 py-1.5">
        <span className="font-semibold">{leaf.label}</span> <code className="font-mono text-xs text-muted">{name}</code>
        {!leaf.member.required && <span className="ml-1 text-xs text-muted">optional</span>}
      </td>
      <td className="px-2 py-1.5">
        {editing ? (
          <BindingEditor equipment={leaf.owner} leaf={leaf} model={model} onBind={onBind} onClose={() => onEdit(false)} />
        ) : (
          <>
            <BindingText leaf={leaf} model={model} />
            {!own && <div className="text-xs text-muted">of {leaf.owner.name}</div>}
            {leaf.problem && leaf.binding && <div className={`text-xs ${leaf.fill ? 'text-uncertain' : 'text-bad'}`}>{leaf.problem.message}</div>}
          </>
        )}
      </td>
      <td className="px-2 py-1.5 text-right whitespace-nowrap">
        {cell && (
          <span className="inline-flex items-center gap-1.5" title={cell.problem ?? qualityText(cell.status)}>
            <span
              className={`font-mono text-[12.5px] ${cell.status === Status.waitingForInitialData ? 'text-muted' : qualityOf(cell.status) === 'bad' ? 'text-bad' : ''}`}
            >
              {shown}
            </span>
            <Glyph state={cell.status === Status.waitingForInitialData ? 'idle' : qualityOf(cell.status)} title={qualityText(cell.status)} />
          </span>
        )}
      </td>
      <td className="px-2 py-1.5 text-muted">
        {leaf.member.unit}
        {converted && (
          <div className="text-xs whitespace-nowrap" title={converted}>
            from {leaf.convertedFrom}
          </div>
        )}
      </td>
      <td className="py-1 text-right whitespace-nowrap">
        {value ? (
          <>
            <Button small kind="quiet" disabled={!mayEdit} onClick={() => onEdit(!editing)} aria-label={`${bound ? 'Change' : 'Bind'} ${leaf.label}`}>
              {bound ? 'change' : 'bind'}
            </Button>
            {bound && (
              <Button small kind="quiet" disabled={!mayEdit} onClick={() => onBind(null)} aria-label={`Unbind ${leaf.label}`}>
                unbind
              </Button>
            )}
          </>
        ) : (
          !own && (
            <a className="px-2 text-xs text-slate hover:underline" href={`/equipment?id=${leaf.owner.id}`}>
              look there
            </a>
          )
        )}
      </td>
    </tr>
  )
}

/** Nested parts and lists: whether they are filled here or are other equipment, and how many there are. */
function Parts({ equipment, model, mayEdit }: { equipment: Equipment; model: PlantModel; mayEdit: boolean }) {
  const members = model.resolver.members(equipment.classId!).filter((m) => m.classId || m.many)
  if (members.length === 0) return null
  const set = (change: { bindings?: Equipment['bindings']; counts?: Equipment['counts'] }, what: string) =>
    void equipmentEdits.tell({ change: [{ id: equipment.id, version: equipment.version, ...change }] }, what)
  const box = 'h-[25px] rounded-sm border border-line bg-sheet px-2'
  return (
    <div className="mb-3 rounded-sm border border-line bg-sheet px-3 py-1.5" data-parts>
      {members.map((m) => {
        const b = equipment.bindings[m.id]
        const { [m.id]: _old, ...rest } = equipment.bindings
        const className = m.classId ? (model.classes.get(m.classId)?.name ?? 'a class that is gone') : m.dataType
        const fits =
          m.classId && !m.many ? model.list.filter((e) => e.id !== equipment.id && isA(model.classes, e.classId, m.classId!)).slice(0, 300) : []
        const value = b?.kind === 'below' ? 'below' : b?.kind === 'equipment' ? b.equipmentId : 'here'
        return (
          <div key={m.id} className="flex items-center gap-2 py-1">
            <span className="w-40 truncate font-semibold">{m.label}</span>
            <span className="w-32 truncate text-muted">{m.many ? `list of ${className}` : className}</span>
            {m.classId && (
              <select
                aria-label={`${m.label} is`}
                className={box}
                value={value}
                disabled={!mayEdit}
                onChange={(e) => {
                  const v = e.target.value
                  if (v === 'here') set({ bindings: rest }, `${m.label} is filled here`)
                  else if (v === 'below') set({ bindings: { ...rest, [m.id]: { kind: 'below' } } }, `${m.label} are the ${className} below`)
                  else set({ bindings: { ...rest, [m.id]: { kind: 'equipment', equipmentId: v } } }, `${m.label} is ${model.equipment.get(v)?.name}`)
                }}
              >
                <option value="here">filled here</option>
                {m.many && <option value="below">all {className} below it</option>}
                {fits.map((e) => (
                  <option key={e.id} value={e.id}>
                    is {e.name}
                  </option>
                ))}
              </select>
            )}
            {m.many && value === 'here' && (
              <label className="flex items-center gap-1.5 text-muted">
                items
                <input
                  type="number"
                  min={0}
                  max={1000}
                  aria-label={`Items of ${m.label}`}
                  className={`${box} w-20 font-mono text-[12.5px] text-ink`}
                  disabled={!mayEdit}
                  value={equipment.counts[m.id] ?? 0}
                  onChange={(e) =>
                    set(
                      { counts: { ...equipment.counts, [m.id]: Math.max(0, Math.min(1000, Number(e.target.value) || 0)) } },
                      `${m.label} has ${e.target.value} items`,
                    )
                  }
                />
              </label>
            )}
          </div>
        )
      })}
    </div>
  )
}
