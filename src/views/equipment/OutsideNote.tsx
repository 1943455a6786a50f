import { useDeferredValue, useMemo } from 'react'
import type { Equipment, EquipmentClass } from '~/contract/equipment'
import type { Difference } from '~/contract/tag'
import { outsideDifferences } from '~/core/publication/outside'
import type { World } from '~/core/publication/placed'
import { Heading } from '~/ui/Notes'
import { useCall } from '../app/api'
import { DifferenceList } from '../shared/DifferenceList'
import type { PlantModel } from './useModel'

const none = new Set<string>()

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
  return (
    <section aria-label="What receivers see" className="mt-2">
      <Heading>What receivers see at the next go-live</Heading>
      {found.length === 0 ? <p className="text-muted">The same as now.</p> : <DifferenceList found={found} />}
    </section>
  )
}
