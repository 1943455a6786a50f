import { Plus, X } from 'lucide-react'
import { useState } from 'react'
import type { Equipment } from '~/contract/equipment'
import { factValue } from '~/core/equipment/sheet'
import { Button } from '~/ui/Button'
import { Heading } from '~/ui/Notes'
import { equipmentEdits } from './edits'

/** Facts that most equipment has: offered, not asked for. */
const usual = ['serial number', 'maker', 'commissioned']
const box = 'h-[25px] rounded-sm border border-line bg-sheet px-2'

/** What is known of an equipment beside its values: its name outside, ids at receivers, facts. */
export function Known({ equipment, mayEdit }: { equipment: Equipment; mayEdit: boolean }) {
  const save = (change: Partial<Pick<Equipment, 'alias' | 'facts' | 'externalIds'>>, label: string) =>
    equipmentEdits.tell({ change: [{ id: equipment.id, version: equipment.version, ...change }] }, label)
  const [alias, setAlias] = useState(equipment.alias)
  return (
    <div className="mt-5 grid max-w-4xl grid-cols-2 gap-x-8">
      <section aria-label="Facts">
        <Heading>Facts</Heading>
        <Pairs
          what="fact"
          pairs={equipment.facts}
          offered={usual}
          mayEdit={mayEdit}
          onSave={(facts, label) => save({ facts: Object.fromEntries(Object.entries(facts).map(([k, v]) => [k, factValue(String(v))])) }, label)}
        />
      </section>
      <section aria-label="Names outside">
        <Heading>Names outside</Heading>
        <label className="flex items-center gap-2 border-b border-line py-1">
          <span className="w-32 text-muted">Alias</span>
          <input
            aria-label="Alias"
            className={`${box} min-w-0 flex-1`}
            value={alias}
            placeholder={equipment.name}
            disabled={!mayEdit}
            onChange={(e) => setAlias(e.target.value)}
            onKeyDown={(e) => e.key === 'Enter' && e.currentTarget.blur()}
            onBlur={() => alias.trim() !== equipment.alias && void save({ alias }, `${equipment.name} is ${alias.trim() || equipment.name} outside`)}
          />
        </label>
        <Pairs
          what="receiver's id"
          pairs={equipment.externalIds}
          offered={[]}
          mayEdit={mayEdit}
          onSave={(ids, label) => save({ externalIds: Object.fromEntries(Object.entries(ids).map(([k, v]) => [k, String(v)])) }, label)}
        />
      </section>
    </div>
  )
}

function Pairs({
  what,
  pairs,
  offered,
  mayEdit,
  onSave,
}: {
  what: string
  pairs: Record<string, string | number | boolean>
  offered: readonly string[]
  mayEdit: boolean
  onSave(pairs: Record<string, string | number | boolean>, label: string): Promise<unknown>
}) {
  const [name, setName] = useState('')
  const [value, setValue] = useState('')
  const fault = name.trim() in pairs ? `${name.trim()} is there already` : null
  const add = () => {
    if (name.trim() === '' || value.trim() === '' || fault) return
    void onSave({ ...pairs, [name.trim()]: value.trim() }, `${name.trim()}: ${value.trim()}`).then((done) => {
      if (!done) return
      setName('')
      setValue('')
    })
  }
  return (
    <>
      {Object.entries(pairs).map(([k, v]) => (
        <div key={`${k} ${v}`} className="flex items-center gap-2 border-b border-line py-1">
          <span className="w-32 truncate text-muted">{k}</span>
          <input
            aria-label={k}
            className={`${box} min-w-0 flex-1`}
            defaultValue={String(v)}
            disabled={!mayEdit}
            onKeyDown={(e) => e.key === 'Enter' && e.currentTarget.blur()}
            onBlur={(e) => {
              const next = e.target.value.trim()
              if (next === '') e.target.value = String(v)
              else if (next !== String(v)) void onSave({ ...pairs, [k]: next }, `${k}: ${next}`)
            }}
          />
          <button
            type="button"
            aria-label={`Remove ${k}`}
            disabled={!mayEdit}
            className="grid size-[22px] place-items-center rounded-sm text-muted hover:bg-well disabled:opacity-40"
            onClick={() => {
              const { [k]: _gone, ...rest } = pairs
              void onSave(rest, `${k} removed`)
            }}
          >
            <X size={13} />
          </button>
        </div>
      ))}
      <div className="flex items-center gap-2 py-1">
        <input
          aria-label={`New ${what}`}
          list={offered.length > 0 ? `offered-${what}` : undefined}
          className={`${box} w-32`}
          placeholder={what === 'fact' ? 'serial number' : 'receiver'}
          value={name}
          disabled={!mayEdit}
          onChange={(e) => setName(e.target.value)}
        />
        {offered.length > 0 && (
          <datalist id={`offered-${what}`}>
            {offered
              .filter((o) => !(o in pairs))
              .map((o) => (
                <option key={o} value={o} />
              ))}
          </datalist>
        )}
        <input
          aria-label={`Value of the new ${what}`}
          className={`${box} min-w-0 flex-1`}
          placeholder={what === 'fact' ? 'VC-0412' : 'the id it has there'}
          value={value}
          disabled={!mayEdit}
          onChange={(e) => setValue(e.target.value)}
          onKeyDown={(e) => e.key === 'Enter' && add()}
        />
        <Button small disabled={!mayEdit || name.trim() === '' || value.trim() === '' || fault !== null} onClick={add} aria-label={`Add ${what}`}>
          <Plus size={13} />
        </Button>
      </div>
      {fault && <div className="text-xs text-bad">{fault}</div>}
    </>
  )
}
