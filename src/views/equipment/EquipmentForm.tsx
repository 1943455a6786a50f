import { useState } from 'react'
import type { Equipment, Level } from '~/contract/equipment'
import { matchMembers } from '~/core/equipment/matching'
import { Button } from '~/ui/Button'
import { CheckField, TextField } from '~/ui/Field'
import { Form } from '~/ui/Form'
import { Modal } from '~/ui/Modal'
import { ProblemNote } from '~/ui/Notes'
import { KeptNote } from '../shared/DraftNotes'
import { useKeptState } from '../shared/useKeptState'
import { useWork } from '../shared/useWork'
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
  const start = { name: equipment?.name ?? '', parentId: parent?.id ?? '', level, classId: equipment?.classId ?? '', match: !equipment }
  const kept = useKeptState(`equipment ${equipment?.id ?? 'new'}`, start, equipment?.version ?? null)
  const { name, parentId, level: lev, classId, match } = kept.draft
  const [fields, setFields] = useState<Record<string, string>>({})
  const { busy, problem, run } = useWork(({ fields: refused }) => {
    const own = Object.fromEntries(Object.entries(refused ?? {}).map(([k, v]) => [k.replace(/^(add|change)\.0\./, ''), v]))
    setFields(own)
    return ['name', 'parentId', 'level', 'classId'].some((k) => own[k])
  })
  const members = classId ? model.resolver.members(classId).filter((m) => !m.classId && !m.many && !m.calculation) : []
  const hits = name.trim() ? matchMembers(name, members, model.tagList) : new Map<string, string>()

  const save = () => {
    setFields({})
    const found = match ? Object.fromEntries([...hits].map(([k, tagId]) => [k, { kind: 'tag' as const, tagId }])) : {}
    const bound = equipment && equipment.classId === (classId || null) ? equipment.bindings : {}
    const row = { name, parentId: parentId || null, level: lev, classId: classId || null, bindings: { ...found, ...bound } }
    return run(async () => {
      const edited = equipment
        ? await equipmentEdits.apply({ change: [{ ...row, id: equipment.id, version: equipment.version }] }, `${name} changed`)
        : await equipmentEdits.apply({ add: [row] }, `${name} added`)
      kept.forget()
      onSaved(edited.equipment[0]!)
    })
  }
  // Closed on purpose, after a question where something was typed: then it is thrown away.
  const close = () => {
    kept.forget()
    onClose()
  }
  return (
    <Modal
      open
      onClose={close}
      width={560}
      title={equipment ? equipment.name : 'Add equipment'}
      foot={
        <>
          <Button onClick={close}>Cancel</Button>
          <Button kind="main" busy={busy} onClick={() => void save()}>
            {equipment ? 'Save' : 'Add equipment'}
          </Button>
        </>
      }
    >
      <Form label="Equipment" onSubmit={save}>
        {kept.keptAt !== null && <KeptNote at={kept.keptAt} onForget={kept.again} />}
        <TextField
          label="Name"
          autoFocus
          value={name}
          onChange={(e) => kept.set({ name: e.target.value })}
          error={fields.name}
          placeholder="Zone 13"
        />
        <PlaceFields
          list={model.list}
          byId={model.equipment}
          classes={[...model.classes.values()]}
          parentId={parentId}
          level={lev}
          classId={classId}
          except={equipment?.id}
          fields={fields}
          onParent={(id) => kept.set({ parentId: id })}
          onLevel={(next) => kept.set({ level: next })}
          onClass={(id) => kept.set({ classId: id })}
        />
        {members.length > 0 && (
          <CheckField
            label="Bind by name"
            checked={match}
            onChange={(e) => kept.set({ match: e.target.checked })}
            help={name.trim() ? `${hits.size} of ${members.length} members have a tag whose name fits` : 'Type the name first'}
          />
        )}
        {equipment && (name.trim() !== equipment.name || parentId !== (equipment.parentId ?? '') || lev !== equipment.level) && (
          <OutsideNote model={model} equipment={[{ ...equipment, name: name.trim(), parentId: parentId || null, level: lev }]} />
        )}
        {problem && <ProblemNote problem={problem} />}
      </Form>
    </Modal>
  )
}
