import { useState } from 'react'
import type { Equipment, Level } from '~/contract/equipment'
import { matchMembers } from '~/core/equipment/matching'
import { Button } from '~/ui/Button'
import { CheckField, TextField } from '~/ui/Field'
import { Modal } from '~/ui/Modal'
import { type Problem, ProblemNote } from '~/ui/Notes'
import { failureIn } from '../app/api'
import { equipmentEdits } from './edits'
import { PlaceFields } from './many/PlaceFields'
import { OutsideNote } from './OutsideNote'
import type { PlantModel } from './useModel'

interface Props {
  equipment: Equipment | null
  parent: Equipment | null
  level: Level
  model: PlantModel
  onClose(): void
  onSaved(e: Equipment): void
}

/** Name, place in the hierarchy and class of one equipment; a new one binds the tags whose names fit. */
export function EquipmentForm({ equipment, parent, level, model, onClose, onSaved }: Props) {
  const [name, setName] = useState(equipment?.name ?? '')
  const [parentId, setParent] = useState(parent?.id ?? '')
  const [lev, setLevel] = useState<Level>(level)
  const [classId, setClass] = useState(equipment?.classId ?? '')
  const [match, setMatch] = useState(!equipment)
  const [problem, setProblem] = useState<Problem | null>(null)
  const [fields, setFields] = useState<Record<string, string>>({})
  const [busy, setBusy] = useState(false)
  const members = classId ? model.resolver.members(classId).filter((m) => !m.classId && !m.many && !m.calculation) : []
  const hits = name.trim() ? matchMembers(name, members, model.tagList) : new Map<string, string>()

  const save = async () => {
    setBusy(true)
    setProblem(null)
    setFields({})
    const found = match ? Object.fromEntries([...hits].map(([k, tagId]) => [k, { kind: 'tag' as const, tagId }])) : {}
    const kept = equipment && equipment.classId === (classId || null) ? equipment.bindings : {}
    const row = { name, parentId: parentId || null, level: lev, classId: classId || null, bindings: { ...found, ...kept } }
    try {
      const edited = equipment
        ? await equipmentEdits.apply({ change: [{ ...row, id: equipment.id, version: equipment.version }] }, `${name} changed`)
        : await equipmentEdits.apply({ add: [row] }, `${name} added`)
      onSaved(edited.equipment[0]!)
    } catch (e) {
      const f = failureIn(e)
      const own = Object.fromEntries(Object.entries(f.fields ?? {}).map(([k, v]) => [k.replace(/^(add|change)\.0\./, ''), v]))
      setFields(own)
      if (!['name', 'parentId', 'level', 'classId'].some((k) => own[k])) setProblem(f)
    } finally {
      setBusy(false)
    }
  }
  return (
    <Modal
      open
      onClose={onClose}
      width={560}
      title={equipment ? equipment.name : 'Add equipment'}
      foot={
        <>
          <Button onClick={onClose}>Cancel</Button>
          <Button kind="main" busy={busy} onClick={() => void save()}>
            {equipment ? 'Save' : 'Add equipment'}
          </Button>
        </>
      }
    >
      <form
        onSubmit={(e) => {
          e.preventDefault()
          void save()
        }}
        aria-label="Equipment"
      >
        <TextField label="Name" autoFocus value={name} onChange={(e) => setName(e.target.value)} error={fields.name} placeholder="Zone 13" />
        <PlaceFields
          list={model.list}
          byId={model.equipment}
          classes={[...model.classes.values()]}
          parentId={parentId}
          level={lev}
          classId={classId}
          except={equipment?.id}
          fields={fields}
          onParent={setParent}
          onLevel={setLevel}
          onClass={setClass}
        />
        {members.length > 0 && (
          <CheckField
            label="Bind by name"
            checked={match}
            onChange={(e) => setMatch(e.target.checked)}
            help={name.trim() ? `${hits.size} of ${members.length} members have a tag whose name fits` : 'Type the name first'}
          />
        )}
        {equipment && (name.trim() !== equipment.name || parentId !== (equipment.parentId ?? '') || lev !== equipment.level) && (
          <OutsideNote model={model} equipment={[{ ...equipment, name: name.trim(), parentId: parentId || null, level: lev }]} />
        )}
        <button type="submit" className="hidden" aria-hidden="true" tabIndex={-1} />
        {problem && <ProblemNote problem={problem} />}
      </form>
    </Modal>
  )
}
