import { useMemo, useState } from 'react'
import type { Equipment, Expression, ExpressionInput, Member } from '~/contract/equipment'
import type { Leaf } from '~/core/equipment/resolve'
import { compileExpression, namesIn } from '~/core/expression/compile'
import { conform, displayValue } from '~/core/value/datatype'
import { qualityText } from '~/core/value/quality'
import { Button } from '~/ui/Button'
import { Glyph } from '~/ui/Glyph'
import { Modal } from '~/ui/Modal'
import { Heading } from '~/ui/Notes'
import { type PlantModel, useCells } from '../useModel'
import { ExpressionEditor, type Usable } from './ExpressionEditor'
import { ownUsables, tagUsables } from './usables'

/** Only the inputs that the text names are kept. */
export function tidyInputs(text: string, inputs: Expression['inputs']): Expression['inputs'] {
  const used = new Set(namesIn(text))
  return Object.fromEntries(Object.entries(inputs).filter(([name]) => used.has(name)))
}

/** Takes up names that were typed rather than picked, when something of that name is at hand. */
export function adopt(text: string, inputs: Expression['inputs'], own: readonly Usable[]): Expression['inputs'] {
  const missing = namesIn(text).filter((n) => !inputs[n])
  const found = missing.flatMap((n) => own.filter((u) => u.name === n).map((u) => [n, u.input] as const))
  return found.length === 0 ? inputs : { ...inputs, ...Object.fromEntries(found) }
}

/** Computing a member of one equipment: the text, what its names stand for, and what it gives at this moment. */
export function ExpressionForm({
  equipment,
  leaf,
  model,
  onSave,
  onClose,
}: {
  equipment: Equipment
  leaf: Pick<Leaf, 'path' | 'label' | 'member' | 'binding'>
  model: PlantModel
  onSave(e: Expression): void
  onClose(): void
}) {
  const before = leaf.binding?.kind === 'expression' ? leaf.binding.expression : null
  const [text, setText] = useState(before?.text ?? '')
  const [inputs, setInputs] = useState<Expression['inputs']>(before?.inputs ?? {})
  const leaves = model.resolver.leavesOf(equipment)
  const own = useMemo(() => ownUsables(equipment, leaves, leaf.path), [equipment, leaves, leaf.path])
  const told = (i: ExpressionInput) => inputText(i, equipment, model)
  const variables = Object.entries(inputs).map(([name, i]) => {
    const found = model.resolver.input(equipment, i)
    return { name, dataType: 'problem' in found ? ('number' as const) : found.dataType, detail: told(i) }
  })
  const compiled = compileExpression(text, variables)
  const problem = text.trim() === '' ? null : 'run' in compiled ? null : compiled.message
  const change = (next: string) => {
    setText(next)
    setInputs((now) => adopt(next, now, own))
  }
  return (
    <Modal
      open
      onClose={onClose}
      width={680}
      title={`${equipment.name}: ${leaf.label}`}
      note={`Computed${leaf.member.unit ? `, in ${leaf.member.unit}` : ''}: names of members, tags and functions are offered as you type`}
      foot={
        <>
          <Button onClick={onClose}>Cancel</Button>
          <Button
            kind="main"
            disabled={text.trim() === '' || problem !== null}
            onClick={() => onSave({ text: text.trim(), inputs: tidyInputs(text, inputs) })}
          >
            Bind
          </Button>
        </>
      }
    >
      <ExpressionEditor
        label={`Expression for ${leaf.label}`}
        value={text}
        onChange={change}
        variables={variables}
        offer={(typed) => [...own, ...tagUsables(model.tagList, typed, new Set([...own.map((u) => u.name), ...Object.keys(inputs)]))]}
        onUse={(u) => setInputs((now) => ({ ...now, [u.name]: u.input }))}
      />
      <div className="mt-1 min-h-5 text-xs" role="status">
        {problem ? (
          <span className="text-bad">{problem}</span>
        ) : 'run' in compiled && compiled.dataType ? (
          <span className="text-muted">gives a {compiled.dataType}</span>
        ) : null}
      </div>
      <Result
        equipment={equipment}
        member={leaf.member}
        text={problem || text.trim() === '' ? '' : text}
        inputs={tidyInputs(text, inputs)}
        model={model}
      />
      <Heading>What its names stand for</Heading>
      {Object.keys(inputs).length === 0 && <p className="text-muted">Nothing yet.</p>}
      {Object.entries(inputs).map(([name, i]) => (
        <div key={name} className="flex items-baseline gap-3 border-b border-line py-1">
          <code className="w-36 shrink-0 truncate font-mono text-[12.5px]">{name}</code>
          <span className="min-w-0 flex-1 truncate">{told(i)}</span>
        </div>
      ))}
    </Modal>
  )
}

/** What an input is, in words. */
export function inputText(i: ExpressionInput, equipment: Equipment, model: PlantModel): string {
  if (i.kind === 'tag') return `tag ${model.tags.get(i.tagId)?.name ?? 'that is gone'}`
  if (i.kind === 'fact') return `fact ${i.fact}`
  const other = i.equipmentId ? model.equipment.get(i.equipmentId) : equipment
  const at = other && model.resolver.locate(other, i.path)
  return at ? `${i.equipmentId ? `${other.name} ` : 'member '}${at.member.label}` : 'a member that is gone'
}

function Result({
  equipment,
  member,
  text,
  inputs,
  model,
}: {
  equipment: Equipment
  member: Member
  text: string
  inputs: Expression['inputs']
  model: PlantModel
}) {
  // As if it were bound: the same way from inputs to value as when it is sent.
  // The text of the inputs is what tells whether they are others: the object is a new one each time.
  const inputsText = JSON.stringify(inputs)
  const leaves = useMemo<Leaf[]>(() => {
    if (text === '') return []
    const entries = Object.entries(JSON.parse(inputsText) as Expression['inputs']).map(([name, i]) => ({
      name,
      found: model.resolver.input(equipment, i),
    }))
    if (entries.some((e) => 'problem' in e.found)) return []
    const fills = entries.flatMap((e) => ('problem' in e.found ? [] : [{ name: e.name, dataType: e.found.dataType, fill: e.found.fill }]))
    const fill = { kind: 'expression' as const, text, inputs: fills, factor: 1, offset: 0 }
    return [{ path: '', keys: [], label: '', member, owner: equipment, binding: null, byClass: false, fill, convertedFrom: null, problem: null }]
  }, [text, inputsText, model, equipment, member])
  const [cell] = useCells(leaves)
  if (!cell) return null
  return (
    <div className="flex items-baseline gap-2 rounded-sm border border-line bg-sheet px-2.5 py-1.5" data-result>
      <span className="text-muted">Now</span>
      <span className="font-mono text-[15px] font-semibold">{displayValue(conform(cell.value, member.dataType), member.dataType === 'number')}</span>
      <span className="text-muted">{member.unit}</span>
      <span className="ml-auto flex items-center gap-1.5 text-muted">
        {cell.problem ?? qualityText(cell.status)}{' '}
        <Glyph state={cell.status >>> 30 === 0 ? 'good' : cell.status >>> 30 === 1 ? 'uncertain' : 'bad'} />
      </span>
    </div>
  )
}
