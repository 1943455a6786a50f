import { useSyncExternalStore } from 'react'
import type { Equipment, EquipmentClass } from '~/contract/equipment'
import type { PlanMember } from '~/contract/publication'
import { compactJson } from '~/core/shape/compact-json'
import { Status } from '~/core/value/quality'
import { Heading } from '~/ui/Notes'
import { bytesText } from '~/ui/time'
import { useCall } from '../app/api'
import { live, useWatch } from '../app/live'
import { Payload } from '../shared/Payload'

let beat = 0
const onValues = (l: () => void) =>
  live.subscribe('values', () => {
    beat++
    l()
  })

/** The payload of one equipment with the values of this moment, made by the very encoder that publications use. */
export function PayloadPeek({ equipment, cls, byId }: { equipment: Equipment; cls: EquipmentClass; byId: ReadonlyMap<string, Equipment> }) {
  const tags = useCall('listTags')
  const publications = useCall('listPublications')
  const tagById = new Map((tags.data ?? []).map((t) => [t.id, t]))
  const members: PlanMember[] = cls.members.flatMap((m) => {
    const b = equipment.bindings[m.key]
    const tag = b?.kind === 'tag' ? tagById.get(b.tagId) : undefined
    if (!b || (b.kind === 'tag' && !tag)) return []
    return [
      {
        key: m.key,
        dataType: m.dataType,
        unit: m.unit,
        handle: tag?.handle ?? null,
        constant: b.kind === 'constant' ? b.value : null,
        deadband: null,
      },
    ]
  })
  const handles = members.flatMap((m) => (m.handle === null ? [] : [m.handle]))
  useWatch({ tags: handles })
  useSyncExternalStore(onValues, () => beat)
  const from = { value: [] as (string | number | boolean | null)[], status: [] as number[], time: [] as number[] }
  for (const h of handles) {
    const v = live.value(h)
    from.value[h] = v?.[1] ?? null
    from.status[h] = v?.[2] ?? Status.waitingForInitialData
    from.time[h] = v?.[3] ?? 0
  }
  const { payload } = compactJson(members)(from, Date.now())
  const using = (publications.data ?? []).filter((p) => p.equipmentIds.includes(equipment.id))
  return (
    <>
      <h2 className="text-[15px] font-semibold">Payload now</h2>
      <div className="mb-2 text-muted">
        {byId.get(equipment.id)?.name}, compact JSON, {bytesText(new TextEncoder().encode(payload).length)}
      </div>
      <Payload text={payload} />
      <Heading>Sent by</Heading>
      {using.length === 0 && <p className="text-muted">No publication yet.</p>}
      {using.map((p) => (
        <div key={p.id} className="border-b border-line py-1">
          <a className="text-slate hover:underline" href={`/publications?id=${p.id}`}>
            {p.name}
          </a>{' '}
          <span className="text-muted">{p.state}</span>
        </div>
      ))}
    </>
  )
}
