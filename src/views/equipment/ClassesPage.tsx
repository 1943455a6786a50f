import { Plus, X } from 'lucide-react'
import { useState } from 'react'
import { toast } from 'sonner'
import type { EquipmentClass, Member } from '~/contract/equipment'
import type { Caller } from '~/contract/person'
import { DataType } from '~/contract/tag'
import { Button } from '~/ui/Button'
import { TextField } from '~/ui/Field'
import { Empty, Loading, ProblemNote } from '~/ui/Notes'
import { ThreeParts } from '~/ui/Parts'
import { call, failureIn, refresh, useCall } from '../app/api'
import { useMay } from '../app/caller'
import { Frame, Row } from '../app/Frame'
import { tellFailure } from '../shared/problems'

export function ClassesPage({ caller }: { caller: Caller }) {
  return (
    <Frame caller={caller} station="equipment" page="Classes">
      <Classes />
    </Frame>
  )
}

function Classes() {
  const classes = useCall('listClasses')
  const mayEdit = useMay('engineer')
  const [chosenId, setChosen] = useState<string | null>(null)
  const list = classes.data ?? []
  const chosen = chosenId === 'new' ? null : (list.find((c) => c.id === chosenId) ?? list[0])
  const add = (
    <Button kind="main" disabled={!mayEdit} onClick={() => setChosen('new')}>
      <Plus size={14} /> New class
    </Button>
  )
  const remove = async (c: EquipmentClass) => {
    try {
      await call('removeClass', { params: { id: c.id } })
      await refresh('listClasses')
      toast(`${c.name} removed`, {
        action: {
          label: 'Undo',
          onClick: () => void call('addClass', { body: { name: c.name, members: c.members } }).then(() => refresh('listClasses'), tellFailure),
        },
      })
    } catch (e) {
      tellFailure(e)
    }
  }
  return (
    <>
      <Row station="equipment" page="Classes">
        {chosen && (
          <Button
            disabled={!mayEdit || chosen.equipmentCount > 0}
            title={chosen.equipmentCount > 0 ? 'Equipment of this class exists' : ''}
            onClick={() => void remove(chosen)}
          >
            Remove
          </Button>
        )}
        {add}
      </Row>
      <ThreeParts
        id="classes"
        left={
          list.length > 0 && (
            <ul aria-label="Classes">
              {list.map((c) => (
                <li key={c.id}>
                  <button
                    type="button"
                    onClick={() => setChosen(c.id)}
                    aria-pressed={c.id === chosen?.id}
                    className={`flex h-[26px] w-full items-center justify-between border-l-2 px-3 text-left ${c.id === chosen?.id ? 'border-slate bg-wash' : 'border-transparent hover:bg-well'}`}
                  >
                    <span className="truncate">{c.name}</span>
                    <span className="font-mono text-[12px] text-muted">{c.equipmentCount}</span>
                  </button>
                </li>
              ))}
            </ul>
          )
        }
      >
        {classes.isPending ? (
          <Loading />
        ) : classes.error ? (
          <div className="p-4">
            <ProblemNote problem={failureIn(classes.error)} />
          </div>
        ) : list.length === 0 && chosenId !== 'new' ? (
          <Empty title="No class yet" action={add}>
            A class says once what a kind of equipment looks like: its members, their types and units.
          </Empty>
        ) : (
          <ClassForm
            key={chosen ? `${chosen.id} ${chosen.version}` : 'new'}
            cls={chosen ?? null}
            mayEdit={mayEdit}
            onSaved={(c) => setChosen(c.id)}
          />
        )}
      </ThreeParts>
    </>
  )
}

const keyFrom = (label: string) =>
  label
    .trim()
    .replace(/[^A-Za-z0-9]+(.)?/g, (_, c: string | undefined) => (c ? c.toUpperCase() : ''))
    .replace(/^[A-Z]/, (c) => c.toLowerCase())

function ClassForm({ cls, mayEdit, onSaved }: { cls: EquipmentClass | null; mayEdit: boolean; onSaved(c: EquipmentClass): void }) {
  const [name, setName] = useState(cls?.name ?? '')
  const [members, setMembers] = useState<Member[]>(cls?.members ?? [])
  const [fields, setFields] = useState<Record<string, string>>({})
  const [busy, setBusy] = useState(false)
  const dirty = name !== (cls?.name ?? '') || JSON.stringify(members) !== JSON.stringify(cls?.members ?? [])
  const set = (i: number, change: Partial<Member>) => setMembers(members.map((m, k) => (k === i ? { ...m, ...change } : m)))
  const save = async () => {
    setBusy(true)
    setFields({})
    try {
      const body = { name, members: members.map((m) => ({ ...m, key: m.key || keyFrom(m.label) })) }
      const saved = cls ? await call('changeClass', { params: { id: cls.id }, body }) : await call('addClass', { body })
      await refresh('listClasses', 'listEquipment')
      toast.success(`${saved.name} is saved`)
      onSaved(saved)
    } catch (e) {
      const f = failureIn(e)
      if (f.fields) setFields(f.fields)
      else tellFailure(e)
    } finally {
      setBusy(false)
    }
  }
  const box = 'h-[26px] w-full rounded-sm border border-line bg-sheet px-2'
  return (
    <form
      className="max-w-3xl p-4"
      onSubmit={(e) => {
        e.preventDefault()
        void save()
      }}
      aria-label="Class"
    >
      <TextField label="Name" value={name} onChange={(e) => setName(e.target.value)} error={fields.name} placeholder="Kiln Zone" />
      <table className="mt-3 w-full" aria-label="Members of the class">
        <thead>
          <tr className="border-b border-line text-left text-xs text-muted">
            <th className="py-1 pr-2 font-semibold">Member</th>
            <th className="px-2 font-semibold">Name in payloads</th>
            <th className="px-2 font-semibold">Type</th>
            <th className="px-2 font-semibold">Unit</th>
            <th />
          </tr>
        </thead>
        <tbody>
          {members.map((m, i) => (
            // biome-ignore lint/suspicious/noArrayIndexKey: the place is the row's name while keys are typed
            <tr key={i} className="align-top">
              <td className="py-1 pr-2">
                <input
                  aria-label="Member"
                  className={box}
                  value={m.label}
                  onChange={(e) => set(i, { label: e.target.value, ...(m.key === keyFrom(m.label) && { key: keyFrom(e.target.value) }) })}
                />
                {fields[`members.${i}.label`] && <div className="text-xs text-bad">{fields[`members.${i}.label`]}</div>}
              </td>
              <td className="px-2 py-1">
                <input
                  aria-label="Name in payloads"
                  className={`${box} font-mono text-[12.5px]`}
                  value={m.key}
                  onChange={(e) => set(i, { key: e.target.value })}
                />
                {fields[`members.${i}.key`] && <div className="text-xs text-bad">{fields[`members.${i}.key`]}</div>}
              </td>
              <td className="px-2 py-1">
                <select aria-label="Type" className={box} value={m.dataType} onChange={(e) => set(i, { dataType: e.target.value as DataType })}>
                  {DataType.options.map((d) => (
                    <option key={d}>{d}</option>
                  ))}
                </select>
              </td>
              <td className="px-2 py-1">
                <input aria-label="Unit" className={`${box} w-20`} value={m.unit} onChange={(e) => set(i, { unit: e.target.value })} />
              </td>
              <td className="py-1">
                <button
                  type="button"
                  aria-label={`Remove ${m.label || 'member'}`}
                  className="grid size-[26px] place-items-center rounded-sm text-muted hover:bg-well"
                  onClick={() => setMembers(members.filter((_, k) => k !== i))}
                >
                  <X size={14} />
                </button>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <div className="mt-2 flex items-center gap-2">
        <Button small onClick={() => setMembers([...members, { key: '', label: '', dataType: 'number', unit: '' }])} disabled={!mayEdit}>
          <Plus size={13} /> Member
        </Button>
        <span className="ml-auto text-muted">
          {cls && cls.equipmentCount > 0 && dirty ? `Changes ${cls.equipmentCount} equipment; what is live stays as it was frozen` : ''}
        </span>
        <Button kind="main" type="submit" busy={busy} disabled={!mayEdit || !dirty}>
          {cls ? 'Save' : 'Add class'}
        </Button>
      </div>
    </form>
  )
}
