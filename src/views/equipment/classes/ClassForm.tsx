import { ChevronDown, ChevronRight, FunctionSquare, Plus, X } from 'lucide-react'
import { Fragment, useEffect, useMemo, useState } from 'react'
import { toast } from 'sonner'
import type { ClassInput, EquipmentClass, Expression, Member } from '~/contract/equipment'
import { shortId } from '~/contract/id'
import { DataType } from '~/contract/tag'
import { membersOf } from '~/core/equipment/members'
import { typedNumber } from '~/core/value/typed-number'
import { Button } from '~/ui/Button'
import { SelectField, TextField } from '~/ui/Field'
import { call, failureIn, refresh } from '../../app/api'
import { ConflictNote, KeptNote } from '../../shared/DraftNotes'
import { isConflict, tellFailure } from '../../shared/problems'
import { useDraft } from '../../shared/useDraft'
import { Calculation } from './Calculation'

const keyFrom = (label: string) =>
  label
    .trim()
    .replace(/[^A-Za-z0-9]+(.)?/g, (_, c: string | undefined) => (c ? c.toUpperCase() : ''))
    .replace(/^[A-Z]/, (c) => c.toLowerCase())

/** A member as it is typed: range and allowed values as text until they are saved. */
type Typed = Omit<Member, 'range' | 'allowed'> & { low: string; high: string; allowedText: string }

const typed = ({ range, allowed, ...m }: Member): Typed => ({
  ...m,
  low: range ? String(range.low) : '',
  high: range ? String(range.high) : '',
  allowedText: allowed ? allowed.join(', ') : '',
})

function untyped({ low, high, allowedText, ...m }: Typed): Member {
  const numeric = m.dataType === 'number' || m.dataType === 'integer'
  const words = allowedText
    // With semicolons between them, commas are decimal ones.
    .split(numeric && allowedText.includes(';') ? ';' : ',')
    .map((w) => w.trim())
    .filter(Boolean)
  return {
    ...m,
    key: m.key || keyFrom(m.label),
    range:
      m.classId || (low.trim() === '' && high.trim() === '') ? null : { low: typedNumber(low) ?? Number.NaN, high: typedNumber(high) ?? Number.NaN },
    allowed: m.classId || words.length === 0 ? null : words.map((w) => (numeric ? (typedNumber(w) ?? Number.NaN) : w)),
  }
}

const fresh = (): Typed => ({
  id: shortId(),
  key: '',
  label: '',
  description: '',
  required: true,
  many: false,
  classId: null,
  dataType: 'number',
  unit: '',
  low: '',
  high: '',
  allowedText: '',
  calculation: null,
})

const box = 'h-[26px] w-full rounded-sm border border-line bg-sheet px-2'

/** A class as it is written here. */
interface Written {
  name: string
  description: string
  extendsId: string
  members: Typed[]
}
const nothing: Written = { name: '', description: '', extendsId: '', members: [] }
const written = (c: EquipmentClass): Written => ({
  name: c.name,
  description: c.description,
  extendsId: c.extendsId ?? '',
  members: c.members.map(typed),
})

export function ClassForm({
  cls,
  classes,
  mayEdit,
  onDraft,
  onSaved,
}: {
  cls: EquipmentClass | null
  classes: ReadonlyMap<string, EquipmentClass>
  mayEdit: boolean
  onDraft(d: ClassInput | null): void
  onSaved(c: EquipmentClass): void
}) {
  const own = useDraft<Written>(`class ${cls?.id ?? 'new'}`, cls && { version: cls.version, draft: written(cls) }, nothing)
  const { name, description, extendsId, members } = own.draft
  const change = (part: Partial<Written>) => own.setDraft({ ...own.draft, ...part })
  const setMembers = (next: Typed[]) => change({ members: next })
  const [open, setOpen] = useState<string | null>(null)
  const [computing, setComputing] = useState<string | null>(null)
  const [fields, setFields] = useState<Record<string, string>>({})
  const [busy, setBusy] = useState(false)
  const draft = useMemo<ClassInput>(
    () => ({ name, description, extendsId: extendsId || null, members: members.map(untyped) }),
    [name, description, extendsId, members],
  )
  const { dirty } = own
  useEffect(() => onDraft(dirty ? draft : null), [draft, dirty, onDraft])
  const set = (i: number, change: Partial<Typed>) => setMembers(members.map((m, k) => (k === i ? { ...m, ...change } : m)))
  const move = (i: number, by: number) => {
    const to = i + by
    if (to < 0 || to >= members.length) return
    const next = [...members]
    ;[next[i], next[to]] = [next[to]!, next[i]!]
    setMembers(next)
  }
  const save = async () => {
    setBusy(true)
    setFields({})
    try {
      const saved = cls
        ? await call('changeClass', { params: { id: cls.id }, query: { version: own.begun ?? undefined }, body: draft })
        : await call('addClass', { body: draft })
      await refresh('listClasses', 'listEquipment', 'classVersions', 'listRecords')
      own.saved({ version: saved.version, draft: written(saved) })
      toast.success(`${saved.name} is saved${cls ? `, version ${saved.version}` : ''}`)
      onSaved(saved)
    } catch (e) {
      const f = failureIn(e)
      if (f.fields) setFields(f.fields)
      else if (cls && isConflict(e)) await refresh('listClasses')
      else tellFailure(e)
    } finally {
      setBusy(false)
    }
  }
  const others = [...classes.values()].filter((c) => c.id !== cls?.id)
  const inherited = extendsId ? membersOf(classes, extendsId) : []
  const computed = members.find((m) => m.id === computing)
  return (
    <form
      className="p-4"
      onSubmit={(e) => {
        e.preventDefault()
        void save()
      }}
      aria-label="Class"
    >
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
        <thead>
          <tr className="border-b border-line text-left text-xs text-muted">
            <th className="w-6">
              <span className="sr-only">Place</span>
            </th>
            <th className="py-1 pr-2 font-semibold">Member</th>
            <th className="px-2 font-semibold">Name in payloads</th>
            <th className="w-30 px-2 font-semibold">Type</th>
            <th className="w-18 px-2 font-semibold">Unit</th>
            <th className="w-16 px-1 text-center font-semibold">Required</th>
            <th className="w-12 px-1 text-center font-semibold">List</th>
            <th className="w-16">
              <span className="sr-only">What can be done</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {inherited.map((m) => (
            <tr key={m.id} className="text-muted">
              <td />
              <td className="py-1 pr-2">{m.label}</td>
              <td className="px-2 font-mono text-[12.5px]">{m.key}</td>
              <td className="px-2">{m.classId ? classes.get(m.classId)?.name : m.dataType}</td>
              <td className="px-2">{m.unit}</td>
              <td className="text-center">{m.required ? 'yes' : ''}</td>
              <td className="text-center">{m.many ? 'yes' : ''}</td>
              <td className="text-xs">inherited</td>
            </tr>
          ))}
          {members.map((m, i) => {
            const faults = ['label', 'key', 'classId', 'range', 'allowed', 'calculation', 'unit', 'id'].flatMap((f) => {
              const direct = fields[`members.${i}.${f}`]
              const inner = Object.entries(fields).filter(([k]) => k.startsWith(`members.${i}.${f}.`))
              return [...(direct ? [direct] : []), ...inner.map(([, v]) => v)]
            })
            return (
              <Fragment key={m.id}>
                <tr className="align-top">
                  <td className="pt-1.5">
                    <button
                      type="button"
                      aria-label={`${open === m.id ? 'Less' : 'More'} of ${m.label || 'member'}`}
                      className="grid size-[22px] place-items-center rounded-sm text-muted hover:bg-well"
                      onClick={() => setOpen(open === m.id ? null : m.id)}
                    >
                      {open === m.id ? <ChevronDown size={14} /> : <ChevronRight size={14} />}
                    </button>
                  </td>
                  <td className="py-1 pr-2">
                    <input
                      aria-label="Member"
                      className={box}
                      value={m.label}
                      onChange={(e) => set(i, { label: e.target.value, ...(m.key === keyFrom(m.label) && { key: keyFrom(e.target.value) }) })}
                      onKeyDown={(e) => {
                        if (!e.altKey || (e.key !== 'ArrowUp' && e.key !== 'ArrowDown')) return
                        e.preventDefault()
                        move(i, e.key === 'ArrowUp' ? -1 : 1)
                      }}
                    />
                    {faults.map((f) => (
                      <div key={f} className="text-xs text-bad" role="alert">
                        {f}
                      </div>
                    ))}
                  </td>
                  <td className="px-2 py-1">
                    <input
                      aria-label="Name in payloads"
                      className={`${box} font-mono text-[12.5px]`}
                      value={m.key}
                      onChange={(e) => set(i, { key: e.target.value })}
                    />
                  </td>
                  <td className="px-2 py-1">
                    <select
                      aria-label="Type"
                      className={box}
                      value={m.classId ?? m.dataType}
                      onChange={(e) => {
                        const type = DataType.safeParse(e.target.value)
                        set(i, type.success ? { dataType: type.data, classId: null } : { classId: e.target.value, calculation: null })
                      }}
                    >
                      {DataType.options.map((d) => (
                        <option key={d}>{d}</option>
                      ))}
                      {others.length > 0 && (
                        <optgroup label="A part">
                          {others.map((c) => (
                            <option key={c.id} value={c.id}>
                              {c.name}
                            </option>
                          ))}
                        </optgroup>
                      )}
                    </select>
                  </td>
                  <td className="px-2 py-1">
                    {!m.classId && <input aria-label="Unit" className={box} value={m.unit} onChange={(e) => set(i, { unit: e.target.value })} />}
                  </td>
                  <td className="py-2 text-center">
                    <input
                      type="checkbox"
                      aria-label="Required"
                      className="accent-(--clay)"
                      checked={m.required}
                      onChange={(e) => set(i, { required: e.target.checked })}
                    />
                  </td>
                  <td className="py-2 text-center">
                    <input
                      type="checkbox"
                      aria-label="List"
                      className="accent-(--clay)"
                      checked={m.many}
                      onChange={(e) => set(i, { many: e.target.checked, ...(e.target.checked && { calculation: null }) })}
                    />
                  </td>
                  <td className="py-1 text-right whitespace-nowrap">
                    <button
                      type="button"
                      aria-label={`Compute ${m.label || 'member'}`}
                      title={m.calculation ? m.calculation.text : 'Compute it the same way in every equipment of the class'}
                      disabled={m.classId !== null || m.many}
                      className={`inline-grid size-[26px] place-items-center rounded-sm hover:bg-well disabled:opacity-25 ${m.calculation ? 'text-clay' : 'text-muted'}`}
                      onClick={() => setComputing(m.id)}
                    >
                      <FunctionSquare size={14} />
                    </button>
                    <button
                      type="button"
                      aria-label={`Remove ${m.label || 'member'}`}
                      className="inline-grid size-[26px] place-items-center rounded-sm text-muted hover:bg-well"
                      onClick={() => setMembers(members.filter((_, k) => k !== i))}
                    >
                      <X size={14} />
                    </button>
                  </td>
                </tr>
                {m.calculation && (
                  <tr>
                    <td />
                    <td colSpan={7} className="pb-1 font-mono text-[12px] text-muted">
                      = {m.calculation.text}
                    </td>
                  </tr>
                )}
                {open === m.id && (
                  <tr>
                    <td />
                    <td colSpan={7} className="pb-2">
                      <div className="grid grid-cols-[70px_1fr_60px_1fr] items-center gap-2 rounded-sm border border-line bg-sheet px-3 py-2">
                        <span className="text-muted">Described</span>
                        <input
                          aria-label="Description of the member"
                          className={`${box} col-span-3`}
                          value={m.description}
                          onChange={(e) => set(i, { description: e.target.value })}
                        />
                        {!m.classId && (
                          <>
                            <span className="text-muted">Range</span>
                            <span className="flex items-center gap-2">
                              <input
                                aria-label="Low"
                                inputMode="decimal"
                                className={`${box} font-mono text-[12.5px]`}
                                value={m.low}
                                onChange={(e) => set(i, { low: e.target.value })}
                              />
                              to
                              <input
                                aria-label="High"
                                inputMode="decimal"
                                className={`${box} font-mono text-[12.5px]`}
                                value={m.high}
                                onChange={(e) => set(i, { high: e.target.value })}
                              />
                            </span>
                            <span className="text-muted">Allowed</span>
                            <input
                              aria-label="Allowed values"
                              className={`${box} font-mono text-[12.5px]`}
                              placeholder="any; or idle, drying, cooling"
                              value={m.allowedText}
                              onChange={(e) => set(i, { allowedText: e.target.value })}
                            />
                          </>
                        )}
                      </div>
                    </td>
                  </tr>
                )}
              </Fragment>
            )
          })}
        </tbody>
      </table>
      <div className="mt-2 flex items-center gap-2">
        <Button small onClick={() => setMembers([...members, fresh()])} disabled={!mayEdit}>
          <Plus size={13} /> Member
        </Button>
        <span className="ml-auto text-muted">
          {cls && cls.equipmentCount > 0 && dirty ? `Changes ${cls.equipmentCount} equipment; what is live stays as it was frozen` : ''}
        </span>
        <Button kind="main" type="submit" busy={busy} disabled={!mayEdit || !dirty}>
          {cls ? 'Save' : 'Add class'}
        </Button>
      </div>
      {computed && (
        <Calculation
          member={untyped(computed)}
          members={[...inherited, ...members.map(untyped)]}
          onClose={() => setComputing(null)}
          onSave={(calculation: Expression | null) => {
            setMembers(members.map((m) => (m.id === computing ? { ...m, calculation } : m)))
            setComputing(null)
          }}
        />
      )}
    </form>
  )
}
