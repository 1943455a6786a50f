import { useEffect, useMemo } from 'react'
import type { EquipmentBrief, EquipmentClass } from '~/contract/equipment'
import type { EquipmentRule } from '~/contract/publication'
import { byName, pathText } from '~/core/equipment/hierarchy'
import { SelectField, TextField } from '~/ui/Field'
import { countText } from '~/ui/time'
import { useCall } from '../app/api'
import { Failed } from '../shared/Failed'

const SHOWN = 6

interface Props {
  equipment: readonly EquipmentBrief[]
  classes: readonly EquipmentClass[]
  rule: EquipmentRule
  /** As it is stored: what matches that by now is no edit of whoever looks. */
  saved: EquipmentRule | undefined
  onChange(rule: EquipmentRule): void
  /** What the rule is for now, when that is known and another than before. */
  onMatch(ids: string[]): void
  chosen: readonly string[]
}

/** Which equipment goes out, by what it is. */
export function RulePicker({ equipment, classes, rule, saved, onChange, onMatch, chosen }: Props) {
  const byId = useMemo(() => new Map(equipment.map((e) => [e.id, e])), [equipment])
  const branches = useMemo(() => {
    const parents = new Set(equipment.flatMap((e) => e.parentId ?? []))
    const all = equipment.filter((e) => parents.has(e.id)).map((e) => ({ id: e.id, path: pathText(byId, e.id) }))
    return all.sort((a, b) => byName(a.path, b.path))
  }, [equipment, byId])
  const fact = rule.fact
  const whole = fact === undefined || fact.name.trim() !== ''
  const found = useCall('matchingEquipment', { body: rule, enabled: whole, keepPrevious: true, refetchMs: 10_000 })
  const ids = found.data?.ids
  const same = ids !== undefined && ids.length === chosen.length && ids.every((id, i) => id === chosen[i])
  // biome-ignore lint/correctness/useExhaustiveDependencies: when others match
  useEffect(() => {
    if (ids && ids.length > 0 && !found.isPlaceholderData && !same && JSON.stringify(rule) !== JSON.stringify(saved)) onMatch(ids)
  }, [ids, same, found.isPlaceholderData])
  const set = (change: Partial<EquipmentRule>) =>
    onChange(Object.fromEntries(Object.entries({ ...rule, ...change }).filter(([, v]) => v !== undefined)) as EquipmentRule)
  const setFact = (name: string, value: string) => set({ fact: name === '' && value === '' ? undefined : { name, ...(value !== '' && { value }) } })
  return (
    <div>
      <SelectField label="Of class" value={rule.classId ?? ''} onChange={(e) => set({ classId: e.target.value || undefined })}>
        <option value="">any</option>
        {classes.map((c) => (
          <option key={c.id} value={c.id}>
            {c.name}
          </option>
        ))}
      </SelectField>
      <SelectField label="Under" value={rule.underId ?? ''} onChange={(e) => set({ underId: e.target.value || undefined })}>
        <option value="">all of the plant</option>
        {branches.map((b) => (
          <option key={b.id} value={b.id}>
            {b.path}
          </option>
        ))}
      </SelectField>
      <TextField
        label="With the fact"
        help="Empty: whatever is known of it"
        error={whole ? undefined : 'Which fact?'}
        value={fact?.name ?? ''}
        onChange={(e) => setFact(e.target.value, fact?.value ?? '')}
      />
      {fact && <TextField label="of the value" help="Empty: any" value={fact.value ?? ''} onChange={(e) => setFact(fact.name, e.target.value)} />}
      <label className="mt-1 flex items-center gap-2">
        <input
          type="checkbox"
          className="accent-(--clay)"
          checked={rule.joins ?? false}
          onChange={(e) => set({ joins: e.target.checked || undefined })}
        />
        what comes to be so joins by itself, and what is so no more leaves: as a new version
      </label>
      <Failed of={found} />
      {ids && (
        <p className="mt-1 text-muted" role="status">
          {ids.length === 0 ? (
            'No equipment is so now.'
          ) : (
            <>
              Now {countText(ids.length)}:{' '}
              <span className="text-ink">
                {ids
                  .slice(0, SHOWN)
                  .map((id) => byId.get(id)?.name ?? '...')
                  .join(', ')}
              </span>
              {ids.length > SHOWN && ` and ${countText(ids.length - SHOWN)} more`}. What comes later joins{' '}
              {rule.joins ? 'by itself' : 'with the next go-live'}.
            </>
          )}
        </p>
      )}
    </div>
  )
}
