import { useState } from 'react'
import { type Equipment, type EquipmentClass, Level } from '~/contract/equipment'
import { byName, pathText } from '~/core/equipment/hierarchy'
import { matchMembers } from '~/core/equipment/matching'
import { Button } from '~/ui/Button'
import { CheckField, SelectField, TextField } from '~/ui/Field'
import { Modal } from '~/ui/Modal'
import { type Problem, ProblemNote } from '~/ui/Notes'
import { call, failureIn, refresh, useCall } from '../app/api'

interface Props {
  equipment: Equipment | null
  parent: Equipment | null
  level: Level
  list: readonly Equipment[]
  classes: readonly EquipmentClass[]
  onClose(): void
  onSaved(e: Equipment): void
}

/** Name, place in the hierarchy and class of one equipment; a new one binds the tags whose names fit. */
export function EquipmentForm({ equipment, parent, level, list, classes, onClose, onSaved }: Props) {
  const [name, setName] = useState(equipment?.name ?? '')
  const [parentId, setParent] = useState(parent?.id ?? '')
  const [lev, setLevel] = useState<Level>(level)
  const [classId, setClass] = useState(equipment?.classId ?? '')
  const [match, setMatch] = useState(!equipment)
  const [problem, setProblem] = useState<Problem | null>(null)
  const [fields, setFields] = useState<Record<string, string>>({})
  const [busy, setBusy] = useState(false)
  const tags = useCall('listTags')
  const byId = new Map(list.map((e) => [e.id, e]))
  const cls = classes.find((c) => c.id === classId)
  const hits = cls && name.trim() ? matchMembers(name, cls.members, tags.data ?? []) : new Map<string, string>()

  const save = async () => {
    setBusy(true)
    setProblem(null)
    setFields({})
    const kept = equipment && equipment.classId === (classId || null) ? equipment.bindings : {}
    const found = Object.fromEntries([...hits].map(([k, tagId]) => [k, { kind: 'tag' as const, tagId }]))
    const body = { name, parentId: parentId || null, level: lev, classId: classId || null, bindings: match ? { ...found, ...kept } : kept }
    try {
      const saved = equipment ? await call('changeEquipment', { params: { id: equipment.id }, body }) : await call('addEquipment', { body })
      await refresh('listEquipment', 'listClasses')
      onSaved(saved)
    } catch (e) {
      const f = failureIn(e)
      if (f.fields) setFields(f.fields)
      else setProblem(f)
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
        <SelectField label="Stands under" value={parentId} onChange={(e) => setParent(e.target.value)} error={fields.parentId}>
          <option value="">nothing: the top</option>
          {list
            .filter((e) => e.id !== equipment?.id)
            .map((e) => ({ id: e.id, path: pathText(byId, e.id) }))
            .sort((a, b) => byName(a.path, b.path))
            .map((e) => (
              <option key={e.id} value={e.id}>
                {e.path}
              </option>
            ))}
        </SelectField>
        <SelectField
          label="Level"
          value={lev}
          onChange={(e) => setLevel(e.target.value as Level)}
          error={fields.level}
          help="Of the ISA-95 hierarchy"
        >
          {Level.options.map((l) => (
            <option key={l}>{l}</option>
          ))}
        </SelectField>
        <SelectField
          label="Class"
          value={classId}
          onChange={(e) => setClass(e.target.value)}
          error={fields.classId}
          help="What it looks like; none for a place that only holds others"
        >
          <option value="">none</option>
          {classes.map((c) => (
            <option key={c.id} value={c.id}>
              {c.name}
            </option>
          ))}
        </SelectField>
        {cls && cls.members.length > 0 && (
          <CheckField
            label="Bind by name"
            checked={match}
            onChange={(e) => setMatch(e.target.checked)}
            help={name.trim() ? `${hits.size} of ${cls.members.length} members have a tag whose name fits` : 'Type the name first'}
          />
        )}
        <button type="submit" className="hidden" aria-hidden="true" tabIndex={-1} />
        {problem && <ProblemNote problem={problem} />}
      </form>
    </Modal>
  )
}
