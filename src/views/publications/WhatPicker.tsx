import { type ReactNode, useMemo, useState } from 'react'
import type { EquipmentBrief, EquipmentClass } from '~/contract/equipment'
import { byName, lineage } from '~/core/equipment/hierarchy'
import { Button } from '~/ui/Button'
import { FilterBox } from '~/ui/Field'

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

/** Which equipment goes out: those with a class, by name or a whole class at once. */
export function WhatPicker({
  equipment,
  classes,
  chosen,
  onChange,
}: {
  equipment: readonly EquipmentBrief[]
  classes: readonly EquipmentClass[]
  chosen: readonly string[]
  onChange(ids: string[]): void
}) {
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
