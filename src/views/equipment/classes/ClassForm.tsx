import { Plus } from 'lucide-react'
import { useState } from 'react'
import type { ClassInput, EquipmentClass } from '~/contract/equipment'
import { membersOf } from '~/core/equipment/members'
import { Button } from '~/ui/Button'
import { SelectField, TextField } from '~/ui/Field'
import { Form } from '~/ui/Form'
import { TableHead } from '~/ui/TableHead'
import { ConflictNote, KeptNote } from '../../shared/DraftNotes'
import { Calculation } from './Calculation'
import { InheritedRow, MemberRow } from './MemberRow'
import { faultsOf, untyped } from './typed-class'
import { useClassForm } from './useClassForm'

const heads = [
  { key: 'place', head: 'Place', quiet: true, width: 24 },
  { key: 'member', head: 'Member' },
  { key: 'key', head: 'Name in payloads' },
  { key: 'type', head: 'Type', width: 120 },
  { key: 'unit', head: 'Unit', width: 72 },
  { key: 'required', head: 'Required', width: 64, middle: true },
  { key: 'list', head: 'List', width: 48, middle: true },
  { key: 'acts', head: 'What can be done', quiet: true, width: 64 },
]

interface Props {
  cls: EquipmentClass | null
  classes: ReadonlyMap<string, EquipmentClass>
  mayEdit: boolean
  onDraft(d: ClassInput | null): void
  onSaved(c: EquipmentClass): void
}

/** A class with its members, edited in place. */
export function ClassForm({ cls, classes, mayEdit, onDraft, onSaved }: Props) {
  const form = useClassForm(cls, onDraft, onSaved)
  const { own, dirty, fields, change } = form
  const { name, description, extendsId, members } = form.draft
  const [open, setOpen] = useState<string | null>(null)
  const [computing, setComputing] = useState<string | null>(null)
  const others = [...classes.values()].filter((c) => c.id !== cls?.id)
  const inherited = extendsId ? membersOf(classes, extendsId) : []
  const computed = members.find((m) => m.id === computing)
  return (
    <Form label="Class" className="p-4" onSubmit={form.save}>
      {own.keptAt !== null && <KeptNote at={own.keptAt} onForget={own.forget} />}
      {own.conflict && <ConflictNote differ={own.conflict} onTheirs={own.takeTheirs} onMine={own.takeMine} />}
      <div className="max-w-2xl">
        <TextField label="Name" value={name} onChange={(e) => change({ name: e.target.value })} error={fields.name} placeholder="Kiln Zone" />
        <TextField label="Description" value={description} onChange={(e) => change({ description: e.target.value })} error={fields.description} />
        {(others.length > 0 || extendsId) && (
          <SelectField
            label="Extends"
            value={extendsId}
            onChange={(e) => change({ extendsId: e.target.value })}
            error={fields.extendsId}
            help="Has all members of that class too"
          >
            <option value="">nothing</option>
            {others.map((c) => (
              <option key={c.id} value={c.id}>
                {c.name}
              </option>
            ))}
          </SelectField>
        )}
      </div>
      <table className="mt-3 w-full" aria-label="Members of the class">
        <TableHead columns={heads} />
        <tbody>
          {inherited.map((m) => (
            <InheritedRow key={m.id} m={m} classes={classes} />
          ))}
          {members.map((m, i) => (
            <MemberRow
              key={m.id}
              m={m}
              others={others}
              faults={faultsOf(fields, i)}
              open={open === m.id}
              onOpen={() => setOpen(open === m.id ? null : m.id)}
              set={(part) => form.set(m.id, part)}
              onMove={(by) => form.move(i, by)}
              onCompute={() => setComputing(m.id)}
              onRemove={() => form.remove(m.id)}
            />
          ))}
        </tbody>
      </table>
      <div className="mt-2 flex items-center gap-2">
        <Button small onClick={form.add} disabled={!mayEdit}>
          <Plus size={13} /> Member
        </Button>
        <span className="ml-auto text-muted">
          {cls && cls.equipmentCount > 0 && dirty ? `Changes ${cls.equipmentCount} equipment; what is live stays as it was frozen` : ''}
        </span>
        <Button kind="main" type="submit" busy={form.busy} disabled={!mayEdit || !dirty}>
          {cls ? 'Save' : 'Add class'}
        </Button>
      </div>
      {computed && (
        <Calculation
          member={untyped(computed)}
          members={[...inherited, ...members.map(untyped)]}
          onClose={() => setComputing(null)}
          onSave={(calculation) => {
            form.set(computed.id, { calculation })
            setComputing(null)
          }}
        />
      )}
    </Form>
  )
}
