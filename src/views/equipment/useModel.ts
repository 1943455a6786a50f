import { useEffect, useMemo, useRef, useState, useSyncExternalStore } from 'react'
import type { Equipment, EquipmentClass } from '~/contract/equipment'
import type { Tag } from '~/contract/tag'
import { handlesOf, type Leaf, Resolver, recordKey } from '~/core/equipment/resolve'
import { takenIn } from '~/core/equipment/taken-in'
import type { Cell } from '~/core/publication/cells/cell'
import { makeCell } from '~/core/publication/cells/maker'
import type { Scalar } from '~/core/value/deadband'
import { Status } from '~/core/value/quality'
import { serverNow } from '~/ui/clock'
import { callKey, queryClient, useCall } from '../app/api'
import { live, useWatch } from '../app/live/live'

const none: never[] = []

export interface PlantModel {
  resolver: Resolver
  equipment: ReadonlyMap<string, Equipment>
  list: readonly Equipment[]
  classes: ReadonlyMap<string, EquipmentClass>
  tags: ReadonlyMap<string, Tag>
  tagList: readonly Tag[]
  /** Whether all tags are there; until then only what is shown first can be resolved. */
  whole: boolean
}

/** More than this, and all tags are asked for at once. */
const FIRST_MOST = 200

/**
 * Classes, equipment and tags of this moment, and what resolves members against them. With `first`, a stable function that says which
 * equipment is shown, the tags of that come before all others.
 */
export function useModel(first?: (list: readonly Equipment[]) => readonly string[]): {
  model: PlantModel
  pending: boolean
  error: unknown
  asked: readonly { error: unknown; refetch(): unknown }[]
} {
  const equipment = useCall('listEquipment')
  const classes = useCall('listClasses')
  const records = useCall('listRecords')
  const [tags, whole] = useTags(equipment.data, first)
  const tagMap = useMemo(() => new Map((tags.data ?? none).map((t) => [t.id, t])), [tags.data])
  const model = useMemo<PlantModel>(() => {
    const list = equipment.data ?? none
    const byId = new Map(list.map((e) => [e.id, e]))
    const byClass = new Map((classes.data ?? none).map((c) => [c.id, c]))
    const handles = new Map((records.data ?? none).map((r) => [recordKey(r.sourceId, r.row, r.column, r.dataType), r.handle]))
    return {
      resolver: new Resolver({ equipment: byId, classes: byClass, tags: tagMap, records: handles }),
      equipment: byId,
      list,
      classes: byClass,
      tags: tagMap,
      tagList: tags.data ?? none,
      whole,
    }
  }, [equipment.data, classes.data, tagMap, tags.data, records.data, whole])
  return {
    model,
    asked: [equipment, classes, tags, records],
    pending: equipment.isPending || classes.isPending || tags.isPending || records.isPending,
    error: equipment.error ?? classes.error ?? tags.error ?? records.error,
  }
}

/** The tags of what is shown first, and then all; and whether it is all. */
function useTags(equipment: readonly Equipment[] | undefined, first: ((list: readonly Equipment[]) => readonly string[]) | undefined) {
  const there = queryClient.getQueryData(callKey('listTags')) !== undefined
  const shown = useMemo(() => {
    if (there || !first) return []
    if (!equipment) return null
    const ids = [...takenIn(new Map(equipment.map((e) => [e.id, e])), first(equipment))]
    return ids.length > FIRST_MOST ? [] : ids
  }, [there, equipment, first])
  const some = useCall('listTags', { query: { equipment: shown ?? [] }, enabled: shown !== null && shown.length > 0 })
  const all = useCall('listTags', { enabled: shown?.length === 0 || some.isFetched })
  const whole = all.data !== undefined
  return [whole || all.error || !some.data ? all : some, whole] as const
}

let beat = 0
const onValues = (l: () => void) =>
  live.subscribe('values', () => {
    beat++
    l()
  })

/** Present values by handle, as cells read them. */
function present(handles: Iterable<number>) {
  const from = { value: [] as Scalar[], status: [] as number[], time: [] as number[] }
  for (const h of handles) {
    const v = live.value(h)
    from.value[h] = v?.[1] ?? null
    from.status[h] = v?.[2] ?? Status.waitingForInitialData
    from.time[h] = v?.[3] ?? 0
  }
  return from
}

/** The values of members now, computed here by the very code with which they are sent; null for those that nothing fills. */
export function useCells(leaves: readonly Leaf[]): readonly (Cell | null)[] {
  const key = leaves.map((l) => JSON.stringify([l.fill, l.member.dataType])).join('\n')
  const made = useRef<{ key: string; cells: (Cell | null)[]; handles: number[] } | null>(null)
  if (made.current?.key !== key) {
    const handles = new Set<number>()
    for (const l of leaves) handlesOf(l.fill, handles)
    made.current = { key, cells: leaves.map((l) => (l.fill ? makeCell(l.fill, l.member.dataType) : null)), handles: [...handles] }
  }
  const { cells, handles } = made.current
  useWatch({ tags: handles })
  useSyncExternalStore(onValues, () => beat)
  const from = present(handles)
  const now = serverNow()
  for (const c of cells) c?.read(from, now)
  return cells
}

/** How often the states of all tags are looked at, ms. */
const STATES_EVERY_MS = 3000

/** The present status of every handle; undefined as long as it is not known. */
export function useStatuses(): (handle: number) => number | undefined {
  const [status, setStatus] = useState<ReadonlyMap<number, number>>(new Map())
  useEffect(() => {
    const stop = new AbortController()
    let timer: ReturnType<typeof setTimeout>
    const look = async () => {
      try {
        const response = await fetch('/api/tags/states', { signal: stop.signal })
        if (response.ok) {
          const { decodeStates } = await import('~/core/tag/states')
          const states = decodeStates(await response.arrayBuffer())
          setStatus((old) => {
            let same = old.size === states.handle.length
            const next = new Map<number, number>()
            for (let i = 0; i < states.handle.length; i++) {
              const h = states.handle[i]!
              next.set(h, states.status[i]!)
              if (same && old.get(h) !== states.status[i]) same = false
            }
            return same ? old : next
          })
        }
      } catch {
        // The course says that the engine is away; here the last states stay.
      }
      if (!stop.signal.aborted) timer = setTimeout(() => void look(), document.hidden ? STATES_EVERY_MS * 10 : STATES_EVERY_MS)
    }
    void look()
    return () => {
      stop.abort()
      clearTimeout(timer)
    }
  }, [])
  return useMemo(() => (h: number) => status.get(h), [status])
}
