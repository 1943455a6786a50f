import { useDeferredValue, useMemo } from 'react'
import type { Equipment, EquipmentClass } from '~/contract/equipment'
import type { World } from '~/core/publication/compile'
import { type Difference, outsideDifferences } from '~/core/publication/outside'
import { Heading } from '~/ui/Notes'
import { countText } from '~/ui/time'
import { useCall } from '../app/api'
import type { PlantModel } from './useModel'

const SHOWN = 8
const none = new Set<string>()

/** What is the same for many equipment stands once. */
function grouped(list: readonly Difference[]): (Difference & { count: number })[] {
  const out = new Map<string, Difference & { count: number }>()
  for (const d of list) {
    const key = [d.publication, d.what, d.before, d.after].join('\n')
    const same = out.get(key)
    if (same) same.count++
    else out.set(key, { ...d, count: 1 })
  }
  return [...out.values()]
}

/** What receivers would see differently if this were saved; says so too when it is nothing. */
export function OutsideNote({
  model,
  equipment = [],
  classes = [],
}: {
  model: PlantModel
  /** As they would be. */
  equipment?: readonly Equipment[]
  classes?: readonly EquipmentClass[]
}) {
  const publications = useCall('listPublications')
  const change = useDeferredValue(JSON.stringify({ equipment, classes }))
  const found = useMemo<Difference[] | null>(() => {
    if (!publications.data || publications.data.length === 0) return null
    const now = JSON.parse(change) as { equipment: Equipment[]; classes: EquipmentClass[] }
    const { model: m } = model.resolver
    const before: World = { ...m, madeUpSources: none }
    const after: World = {
      ...before,
      equipment: new Map([...m.equipment, ...now.equipment.map((e) => [e.id, e] as const)]),
      classes: new Map([...m.classes, ...now.classes.map((c) => [c.id, c] as const)]),
    }
    return outsideDifferences(publications.data, before, after)
  }, [publications.data, model, change])
  if (!found) return null
  const words = { topic: 'topic', name: 'name', type: 'type', unit: 'unit', gone: 'sent no more', new: 'new' }
  const rows = grouped(found)
  return (
    <section aria-label="What receivers see" className="mt-2">
      <Heading>What receivers see at the next go-live</Heading>
      {found.length === 0 ? (
        <p className="text-muted">The same as now.</p>
      ) : (
        <ul>
          {rows.slice(0, SHOWN).map((d, i) => (
            // biome-ignore lint/suspicious/noArrayIndexKey: a list that is made anew each time
            <li key={i} className="border-b border-line py-1">
              <div className="text-xs text-muted">
                {d.publication}
                {d.live && ', live'} · {d.count === 1 ? d.equipment : `${countText(d.count)} equipment`} · {words[d.what]}
              </div>
              <div className="font-mono text-[12px] break-all">
                {d.before && <span className={d.after ? 'text-muted' : 'text-bad'}>{d.before}</span>}
                {d.before && d.after && ' → '}
                {d.after}
              </div>
            </li>
          ))}
          {rows.length > SHOWN && <li className="py-1 text-muted">and {countText(rows.length - SHOWN)} more</li>}
        </ul>
      )}
    </section>
  )
}
