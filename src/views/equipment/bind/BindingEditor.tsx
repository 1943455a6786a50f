import { useState } from 'react'
import type { Binding, Equipment } from '~/contract/equipment'
import { byName } from '~/core/equipment/hierarchy'
import type { Leaf } from '~/core/equipment/resolve'
import { givesRows } from '~/core/rows/kinds'
import { typedNumber } from '~/core/value/typed-number'
import { Button } from '~/ui/Button'
import { Choice } from '~/ui/Field'
import { useCall } from '../../app/api'
import type { PlantModel } from '../useModel'
import { ExpressionForm } from './ExpressionForm'
import { TagPicker } from './TagPicker'

type Kind = 'tag' | 'expression' | 'record' | 'fact' | 'constant' | 'member'
const kinds: readonly { value: Kind; label: string }[] = [
  { value: 'tag', label: 'Tag' },
  { value: 'expression', label: 'Expression' },
  { value: 'record', label: 'Record' },
  { value: 'fact', label: 'Fact' },
  { value: 'constant', label: 'Constant' },
  { value: 'member', label: 'Other equipment' },
]

interface Props {
  equipment: Equipment
  leaf: Pick<Leaf, 'path' | 'label' | 'member' | 'binding' | 'byClass'>
  model: PlantModel
  onBind(b: Binding): void
  onClose(): void
}

/** What is to fill a member: a tag, or something else. */
export function BindingEditor(props: Props) {
  const { leaf, equipment, model, onBind, onClose } = props
  const now = leaf.byClass ? undefined : leaf.binding?.kind
  const [kind, setKind] = useState<Kind>(now && kinds.some((k) => k.value === now) ? (now as Kind) : 'tag')
  return (
    <div className="flex flex-col gap-1.5 py-0.5">
      <Choice label="Filled by" value={kind} options={kinds} onChange={setKind} />
      {kind === 'tag' && (
        <TagPicker
          label={leaf.label}
          query={`${equipment.name} ${leaf.member.label}`}
          tags={model.tagList}
          onPick={(t) => onBind({ kind: 'tag', tagId: t.id })}
          onClose={onClose}
        />
      )}
      {kind === 'expression' && (
        <ExpressionForm
          equipment={equipment}
          leaf={leaf}
          model={model}
          onSave={(expression) => onBind({ kind: 'expression', expression })}
          onClose={onClose}
        />
      )}
      {kind === 'record' && <RecordForm {...props} />}
      {kind === 'fact' && <FactForm {...props} />}
      {kind === 'constant' && <ConstantForm {...props} />}
      {kind === 'member' && <MemberForm {...props} />}
    </div>
  )
}

const box = 'h-[26px] rounded-sm border border-line bg-sheet px-2'

function Foot({ ready, onSave, onClose }: { ready: boolean; onSave(): void; onClose(): void }) {
  return (
    <div className="flex gap-2">
      <Button small kind="main" disabled={!ready} onClick={onSave}>
        Bind
      </Button>
      <Button small onClick={onClose}>
        Cancel
      </Button>
    </div>
  )
}

function ConstantForm({ leaf, onBind, onClose }: Props) {
  const { dataType } = leaf.member
  const [text, setText] = useState(leaf.binding?.kind === 'constant' ? String(leaf.binding.value) : '')
  const number = typedNumber(text) ?? Number.NaN
  const numeric = dataType === 'number' || dataType === 'integer'
  const fault =
    text.trim() === ''
      ? null
      : numeric && (!Number.isFinite(number) || (dataType === 'integer' && !Number.isInteger(number)))
        ? `No ${dataType}`
        : dataType === 'boolean' && !['true', 'false'].includes(text)
          ? 'true or false'
          : null
  const ready = text.trim() !== '' && !fault
  const save = () => ready && onBind({ kind: 'constant', value: numeric ? number : dataType === 'boolean' ? text === 'true' : text })
  return (
    <>
      <div className="flex items-center gap-2">
        <input
          ref={(el) => el?.focus()}
          aria-label={`Constant for ${leaf.label}`}
          className={`${box} w-44 font-mono text-[12.5px]`}
          value={text}
          onChange={(e) => setText(e.target.value)}
          onKeyDown={(e) => (e.key === 'Enter' ? save() : e.key === 'Escape' && onClose())}
        />
        <span className="text-muted">{leaf.member.unit}</span>
        {fault && <span className="text-xs text-bad">{fault}</span>}
      </div>
      <Foot ready={ready} onSave={save} onClose={onClose} />
    </>
  )
}

function FactForm({ leaf, equipment, onBind, onClose }: Props) {
  const facts = Object.keys(equipment.facts)
  const [fact, setFact] = useState(leaf.binding?.kind === 'fact' ? leaf.binding.fact : (facts[0] ?? ''))
  if (facts.length === 0) return <p className="text-muted">{equipment.name} has no facts yet: add them under its members.</p>
  return (
    <>
      <select aria-label={`Fact for ${leaf.label}`} className={`${box} w-64`} value={fact} onChange={(e) => setFact(e.target.value)}>
        {facts.map((f) => (
          <option key={f} value={f}>
            {f}: {String(equipment.facts[f])}
          </option>
        ))}
      </select>
      <Foot ready={fact !== ''} onSave={() => onBind({ kind: 'fact', fact })} onClose={onClose} />
    </>
  )
}

function RecordForm({ leaf, onBind, onClose }: Props) {
  const sources = useCall('listSources')
  const usable = (sources.data ?? []).filter((s) => givesRows(s.kind))
  const old = leaf.binding?.kind === 'record' ? leaf.binding : null
  const [sourceId, setSource] = useState(old?.sourceId ?? '')
  const [row, setRow] = useState(old?.row ?? '')
  const [column, setColumn] = useState(old?.column ?? '')
  const source = usable.find((s) => s.id === (sourceId || usable[0]?.id))
  const keyed = source?.kind === 'sql' && 'keyColumn' in source.settings && source.settings.keyColumn !== ''
  if (usable.length === 0) return <p className="text-muted">No source with records yet: add one of kind SQL query or HTTP JSON.</p>
  return (
    <>
      <div className="grid max-w-md grid-cols-[90px_1fr] items-center gap-x-2 gap-y-1">
        <span className="text-muted">From</span>
        <select aria-label="Record source" className={box} value={source?.id} onChange={(e) => setSource(e.target.value)}>
          {usable.map((s) => (
            <option key={s.id} value={s.id}>
              {s.name}
            </option>
          ))}
        </select>
        <span className="text-muted">Row</span>
        <input
          aria-label="Row"
          className={`${box} font-mono text-[12.5px]`}
          value={row}
          placeholder={keyed ? 'kiln 1, or {name}, {alias}, {fact.line}' : 'empty: the one row there is'}
          onChange={(e) => setRow(e.target.value)}
        />
        <span className="text-muted">Column</span>
        <input
          aria-label="Column"
          className={`${box} font-mono text-[12.5px]`}
          value={column}
          placeholder="order_no"
          onChange={(e) => setColumn(e.target.value)}
        />
      </div>
      <Foot
        ready={source !== undefined && column.trim() !== ''}
        onSave={() => onBind({ kind: 'record', sourceId: source!.id, row: row.trim(), column: column.trim() })}
        onClose={onClose}
      />
    </>
  )
}

function MemberForm({ leaf, equipment, model, onBind, onClose }: Props) {
  const old = leaf.binding?.kind === 'member' ? leaf.binding : null
  const [text, setText] = useState(old ? (model.equipment.get(old.equipmentId)?.name ?? '') : '')
  const [otherId, setOther] = useState(old?.equipmentId ?? '')
  const [path, setPath] = useState(old?.path ?? '')
  const wanted = text.trim().toLowerCase()
  const others = model.list
    .filter((e) => e.classId && e.id !== equipment.id && e.name.toLowerCase().includes(wanted))
    .sort((a, b) => byName(a.name, b.name))
    .slice(0, 50)
  const other = model.equipment.get(otherId) ?? others[0]
  const leaves = other ? model.resolver.leavesOf(other).filter((l) => l.owner.id === other.id) : []
  const chosen = leaves.find((l) => l.path === path) ?? leaves[0]
  return (
    <>
      <div className="grid max-w-md grid-cols-[90px_1fr] items-center gap-x-2 gap-y-1">
        <span className="text-muted">Equipment</span>
        <input
          aria-label="Other equipment"
          className={box}
          value={text}
          placeholder="part of its name"
          onChange={(e) => {
            setText(e.target.value)
            setOther('')
          }}
        />
        <span />
        <select aria-label="Which equipment" className={box} value={other?.id ?? ''} onChange={(e) => setOther(e.target.value)}>
          {others.map((e) => (
            <option key={e.id} value={e.id}>
              {e.name}
            </option>
          ))}
        </select>
        <span className="text-muted">Member</span>
        <select aria-label="Its member" className={box} value={chosen?.path ?? ''} onChange={(e) => setPath(e.target.value)}>
          {leaves.map((l) => (
            <option key={l.path} value={l.path}>
              {l.label} {l.member.unit && `(${l.member.unit})`}
            </option>
          ))}
        </select>
      </div>
      <Foot
        ready={other !== undefined && chosen !== undefined}
        onSave={() => onBind({ kind: 'member', equipmentId: other!.id, path: chosen!.path })}
        onClose={onClose}
      />
    </>
  )
}
