import { useMemo, useState } from 'react'
import type { Tag } from '~/contract/tag'
import { columnIndex, type Surroundings, tagColumns } from '~/core/tag/columns'
import { editOf } from '~/core/tag/plan'
import { unitOf } from '~/core/value/unit'
import { Button } from '~/ui/Button'
import { Field } from '~/ui/Field'
import { Heading } from '~/ui/Notes'
import { failureIn } from '../app/api'
import { CellInput } from './edit/CellInput'
import { tagEdits } from './edit/edits'
import { planCells } from './edit/single'

const parts: readonly [string, readonly string[]][] = [
  ['What it is', ['name', 'description', 'unit', 'format', 'low', 'high']],
  ['How it is read', ['address', 'type', 'group', 'rate_ms', 'deadband', 'access']],
  ['Scaling, raw to engineering units', ['raw_low', 'raw_high', 'scaled_low', 'scaled_high', 'clamp']],
  ['Until the device speaks', ['initial', 'hold']],
  ['History', ['history', 'history_deadband', 'history_min_ms', 'history_max_ms']],
  ['Charts', ['chart_low', 'chart_high', 'chart_line']],
]
/** What their labels do not say by themselves. */
const helped = new Set(['unit', 'format', 'deadband', 'rate_ms', 'hold', 'clamp', 'history_max_ms'])
const column = (key: string) => tagColumns[columnIndex.get(key)!]!

/** Every property of one tag; what is wrong shows beside it while it is typed. */
export function PropertyForm({ tag, around, onDone }: { tag: Tag; around: Surroundings; onDone(): void }) {
  const [typed, setTyped] = useState<Record<string, string>>({})
  const [refused, setRefused] = useState<Record<string, string>>({})
  const [busy, setBusy] = useState(false)
  const planned = useMemo(() => planCells(tag, typed, around), [tag, typed, around])
  const faults = { ...Object.fromEntries(planned.faults.map((f) => [f.column, f.reason])), ...refused }
  const save = async () => {
    if (planned.state === 'same') return onDone()
    if (planned.state === 'faulty') return
    setBusy(true)
    try {
      await tagEdits.apply(editOf([planned]), `${tag.name} changed`)
      onDone()
    } catch (e) {
      const f = failureIn(e)
      const own = Object.entries(f.fields ?? {}).map(([k, v]) => [k.split('.').at(-1) === 'address' ? 'address' : 'name', v])
      setRefused(own.length > 0 ? Object.fromEntries(own) : { name: f.message })
    } finally {
      setBusy(false)
    }
  }
  const unit = unitOf(typed.unit ?? tag.unit)
  const help = (key: string) =>
    key === 'unit' && unit
      ? `${unit.name}: UCUM ${unit.ucum}${unit.cefact ? `, UN/CEFACT ${unit.cefact}` : ''}`
      : helped.has(key)
        ? column(key).help
        : undefined
  return (
    <form
      aria-label={`Properties of ${tag.name}`}
      className="my-2 border-y border-line py-1 [&_.grid]:grid-cols-[92px_1fr]"
      onSubmit={(e) => {
        e.preventDefault()
        void save()
      }}
    >
      {parts.map(([title, keys]) => (
        <section key={title}>
          <Heading>{title}</Heading>
          {keys.map((key) => {
            const c = column(key)
            return (
              <Field key={key} label={c.label} error={faults[key]} help={help(key)}>
                {(p) => (
                  <CellInput
                    {...p}
                    column={c}
                    value={typed[key] ?? c.read(tag, around)}
                    onValue={(text) => {
                      setTyped((t) => ({ ...t, [key]: text }))
                      setRefused({})
                    }}
                    className={`h-[25px] w-full ${faults[key] ? 'border-bad' : 'border-line'}`}
                  />
                )}
              </Field>
            )
          })}
        </section>
      ))}
      <div className="sticky -bottom-3 flex justify-end gap-2 border-t border-line bg-sheet py-2">
        <Button small onClick={onDone}>
          Cancel
        </Button>
        <Button small kind="main" type="submit" busy={busy} disabled={planned.state === 'faulty'}>
          Save
        </Button>
      </div>
    </form>
  )
}
