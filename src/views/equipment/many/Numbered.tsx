import { useMemo, useState } from 'react'
import type { Equipment, Level } from '~/contract/equipment'
import { newId } from '~/contract/id'
import { fillParts, parseTemplate } from '~/core/address/template'
import { numberedNames } from '~/core/equipment/numbered'
import { factValue } from '~/core/equipment/sheet'
import { Button } from '~/ui/Button'
import { TextField } from '~/ui/Field'
import { Modal } from '~/ui/Modal'
import { Heading } from '~/ui/Notes'
import { countText } from '~/ui/time'
import { useWork } from '../../shared/useWork'
import { equipmentEdits } from '../edits'
import type { PlantModel } from '../useModel'
import { PlaceFields } from './PlaceFields'

const below: Record<Level, Level> = { enterprise: 'site', site: 'area', area: 'work centre', 'work centre': 'work unit', 'work unit': 'work unit' }
const SHOWN = 200

/** Makes many equipment of one class from a numbered name; everything is shown before anything is made. */
export function Numbered({
  model,
  under,
  onClose,
  onMade,
}: {
  model: PlantModel
  under: Equipment | null
  onClose(): void
  onMade(id: string): void
}) {
  // Beside what is chosen, when that is equipment itself and no place for others.
  const at = under?.classId && under.parentId ? model.equipment.get(under.parentId)! : under
  const [pattern, setPattern] = useState('')
  const [parentId, setParent] = useState(at?.id ?? '')
  const [level, setLevel] = useState<Level>(at ? below[at.level] : 'enterprise')
  const [classId, setClass] = useState('')
  const [fact, setFact] = useState('')
  const [factText, setFactText] = useState('')
  const { busy, run } = useWork()
  const numbered = useMemo(() => numberedNames(pattern), [pattern])
  const names = 'names' in numbered ? numbered.names : []
  const template = useMemo(() => parseTemplate(factText, (k) => k === 'name', '{name}'), [factText])
  const beside = useMemo(() => new Set(model.list.filter((e) => e.parentId === (parentId || null)).map((e) => e.name)), [model.list, parentId])
  const taken = names.filter((n) => beside.has(n))
  const twice = names.length !== new Set(names).size
  const fresh = names.filter((n) => !beside.has(n))
  const factOf = (name: string) => fillParts(template.parts, () => name).text.trim()
  const fault = pattern.trim() === '' ? null : 'problem' in numbered ? numbered.problem : twice ? 'Some names would come twice' : null
  const withFact = fact.trim() !== '' && factText.trim() !== ''

  const make = () =>
    run(async () => {
      const rows = fresh.map((name) => ({
        id: newId(),
        name,
        parentId: parentId || null,
        level,
        classId: classId || null,
        facts: withFact && factOf(name) ? { [fact.trim()]: factValue(factOf(name)) } : {},
      }))
      const made = await equipmentEdits.tell({ add: rows }, `${countText(rows.length)} equipment made`)
      if (made) {
        onMade(rows[0]!.id)
        onClose()
      }
    })
  return (
    <Modal
      open
      onClose={onClose}
      width={760}
      title="Make many equipment"
      note="Numbers and letters in braces: Dryer Chamber {1..6}, Zone {01..12}, Cell {A..C}{1..4}"
      foot={
        <>
          {taken.length > 0 && (
            <span className="mr-auto text-muted">
              {countText(taken.length)} {taken.length === 1 ? 'exists' : 'exist'} there already and would be left as they are
            </span>
          )}
          <Button onClick={onClose}>Cancel</Button>
          <Button kind="main" busy={busy} disabled={fresh.length === 0 || fault !== null || template.problems.length > 0} onClick={() => void make()}>
            Make {fresh.length > 0 ? countText(fresh.length) : ''}
          </Button>
        </>
      }
    >
      <div className="grid grid-cols-[1fr_240px] gap-5">
        <div>
          <TextField
            label="Names"
            mono
            autoFocus
            value={pattern}
            onChange={(e) => setPattern(e.target.value)}
            placeholder="Dryer Chamber {1..6}"
            error={fault ?? undefined}
          />
          <PlaceFields
            list={model.list}
            byId={model.equipment}
            classes={[...model.classes.values()]}
            parentId={parentId}
            level={level}
            classId={classId}
            onParent={setParent}
            onLevel={setLevel}
            onClass={setClass}
          />
          <TextField label="A fact of each" value={fact} onChange={(e) => setFact(e.target.value)} placeholder="serial number" />
          <TextField
            label="Its value"
            mono
            value={factText}
            onChange={(e) => setFactText(e.target.value)}
            placeholder="VC-{name|number|pad(3)}"
            help="{name}, and filters after a bar: number, pad(3), slug, lower, replace(' ', '')"
            error={template.problems[0]?.message}
          />
        </div>
        <div className="flex min-h-0 flex-col">
          <Heading aside={<span className="text-xs text-muted">{countText(names.length)}</span>}>What there will be</Heading>
          <ul className="max-h-72 min-h-24 overflow-auto rounded-sm border border-line bg-sheet py-1" aria-label="What there will be">
            {names.length === 0 && <li className="px-2 text-muted">Type a name on the left.</li>}
            {names.slice(0, SHOWN).map((n, i) => (
              // biome-ignore lint/suspicious/noArrayIndexKey: a name may come twice while it is typed
              <li key={i} className={`flex justify-between gap-2 px-2 leading-6 ${beside.has(n) ? 'text-muted line-through' : ''}`}>
                <span className="truncate">{n}</span>
                {withFact && <span className="shrink-0 font-mono text-[12px] text-muted">{factOf(n)}</span>}
              </li>
            ))}
            {names.length > SHOWN && <li className="px-2 text-muted">and {countText(names.length - SHOWN)} more</li>}
          </ul>
        </div>
      </div>
    </Modal>
  )
}
