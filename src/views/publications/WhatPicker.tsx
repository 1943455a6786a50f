import { type ReactNode, useMemo, useState } from 'react'
import type { EquipmentBrief, EquipmentClass } from '~/contract/equipment'
import type { EquipmentRule, TagPick } from '~/contract/publication'
import type { RowPick } from '~/contract/rows'
import { byName, lineage } from '~/core/equipment/hierarchy'
import { Button } from '~/ui/Button'
import { Choice, FilterBox } from '~/ui/Field'
import { RulePicker } from './RulePicker'
import { freshRows, RowsPicker } from './rows/RowsPicker'
import { TagsPicker } from './TagsPicker'

/** `12 equipment of class Kiln Zone under Firing / Tunnel Kiln 1`. */
export function whatWords(ids: readonly string[], byId: ReadonlyMap<string, EquipmentBrief>, classes: readonly EquipmentClass[]): ReactNode {
  if (ids.length === 0) return 'no equipment yet'
  const all = ids.flatMap((id) => byId.get(id) ?? [])
  const kinds = [...new Set(all.map((e) => classes.find((c) => c.id === e.classId)?.name ?? 'no class'))]
  const parents = [...new Set(all.map((e) => e.parentId))]
  const under =
    parents.length === 1 && parents[0]
      ? lineage(byId, parents[0])
          .slice(-2)
          .map((e) => e.name)
          .join(' / ')
      : null
  return (
    <>
      {ids.length === 1 ? <b>{all[0]?.name ?? 'one equipment'}</b> : `${ids.length} equipment`} of class <b>{kinds.join(', ')}</b>
      {under && ` under ${under}`}
    </>
  )
}

interface Props {
  equipment: readonly EquipmentBrief[]
  classes: readonly EquipmentClass[]
  chosen: readonly string[]
  onChange(ids: string[]): void
}

/** What goes out: equipment by hand or by a rule that is gone by at each go-live, tags without equipment, rows of a source. */
export function WhatPicker({
  rule,
  saved,
  onRule,
  tags,
  onTags,
  rows,
  onRows,
  fields,
  onBy,
  ...props
}: Props & {
  rule: EquipmentRule | undefined
  saved: EquipmentRule | undefined
  onRule(rule: EquipmentRule): void
  tags: TagPick | undefined
  onTags(tags: TagPick): void
  rows: RowPick | undefined
  onRows(rows: RowPick): void
  fields: Readonly<Record<string, string>>
  /** It is chosen in another way. */
  onBy(by: { rule: EquipmentRule | undefined; tags: TagPick | undefined; rows: RowPick | undefined }): void
}) {
  const { equipment, classes, chosen, onChange } = props
  const choose = (by: 'hand' | 'rule' | 'tags' | 'rows') => {
    const next = by === 'rule' ? (rule ?? ruleFor(chosen, equipment)) : undefined
    const picked = by === 'tags' ? (tags ?? { folder: '', text: '' }) : undefined
    onBy({ rule: next, tags: picked, rows: by === 'rows' ? (rows ?? freshRows) : undefined })
  }
  return (
    <>
      <div className="mb-2.5">
        <Choice
          label="Chosen"
          value={rows ? 'rows' : tags ? 'tags' : rule ? 'rule' : 'hand'}
          options={[
            { value: 'hand', label: 'By hand' },
            { value: 'rule', label: 'By rule' },
            { value: 'tags', label: 'Tags without equipment' },
            { value: 'rows', label: 'Rows of a source' },
          ]}
          onChange={choose}
        />
      </div>
      {rows ? (
        <RowsPicker rows={rows} fields={fields} onRows={onRows} />
      ) : tags ? (
        <TagsPicker pick={tags} onPick={onTags} />
      ) : rule ? (
        <RulePicker {...{ equipment, classes, rule, saved, chosen }} onChange={onRule} onMatch={onChange} />
      ) : (
        <ByHand {...props} />
      )}
    </>
  )
}

/** A rule that what was chosen by hand is like: of its class, if it has one. */
function ruleFor(chosen: readonly string[], equipment: readonly EquipmentBrief[]): EquipmentRule {
  const picked = new Set(chosen)
  const classes = new Set(equipment.filter((e) => picked.has(e.id)).map((e) => e.classId))
  const [classId] = classes
  return classes.size === 1 && classId ? { classId } : {}
}

/** Those with a class, by name or a whole class at once. */
function ByHand({ equipment, classes, chosen, onChange }: Props) {
  const [filter, setFilter] = useState('')
  const set = useMemo(() => new Set(chosen), [chosen])
  const byId = useMemo(() => new Map(equipment.map((e) => [e.id, e])), [equipment])
  const able = useMemo(
    () =>
      equipment
        .filter((e) => e.classId !== null)
        .map((e) => ({
          e,
          path: lineage(byId, e.id)
            .slice(-3)
            .map((x) => x.name)
            .join(' / '),
        }))
        .sort((a, b) => byName(a.path, b.path)),
    [equipment, byId],
  )
  const words = filter.toLowerCase()
  const shown = able.filter((a) => a.path.toLowerCase().includes(words))
  const add = (ids: string[]) => onChange([...new Set([...chosen, ...ids])])
  if (able.length === 0)
    return (
      <p>
        No equipment has a class yet.{' '}
        <a className="text-slate underline" href="/equipment">
          Add some under Equipment
        </a>
        .
      </p>
    )
  return (
    <div>
      <div className="mb-2 flex flex-wrap items-center gap-1.5">
        <FilterBox value={filter} onChange={setFilter} placeholder="filter equipment" width="w-48" />
        {classes
          .filter((c) => c.equipmentCount > 0)
          .map((c) => (
            <Button key={c.id} small onClick={() => add(able.filter((a) => a.e.classId === c.id).map((a) => a.e.id))}>
              all {c.equipmentCount} {c.name}
            </Button>
          ))}
        <Button small onClick={() => onChange([])} disabled={chosen.length === 0}>
          none
        </Button>
      </div>
      <div className="max-h-48 overflow-auto rounded-sm border border-line bg-paper py-1">
        {shown.slice(0, 500).map(({ e, path }) => (
          <label key={e.id} className="flex h-[24px] items-center gap-2 px-2 hover:bg-well/60">
            <input
              type="checkbox"
              className="accent-(--clay)"
              checked={set.has(e.id)}
              onChange={(x) => (x.target.checked ? add([e.id]) : onChange(chosen.filter((id) => id !== e.id)))}
            />
            <span className="truncate">{path}</span>
            <span className="ml-auto shrink-0 text-xs text-muted">{classes.find((c) => c.id === e.classId)?.name}</span>
          </label>
        ))}
        {shown.length > 500 && <div className="px-2 text-muted">and {shown.length - 500} more: filter to see them</div>}
        {shown.length === 0 && <div className="px-2 text-muted">Nothing is called that</div>}
      </div>
    </div>
  )
}
