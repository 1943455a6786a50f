import { useEffect, useMemo, useRef, useState } from 'react'
import type { Tag } from '~/contract/tag'
import { type Surroundings, surroundings } from '~/core/tag/columns'
import { decodeStates } from '~/core/tag/states'
import { countKinds, foldersOf, isLiveQuery, type QuickKind, StateIndex, TagList, type ViewContext, type ViewQuery } from '~/core/tag/view'
import { serverNow } from '~/ui/clock'
import { callKey, queryClient, useCall } from '../app/api'
import { kindView } from '../sources/kinds'
import type { Around } from './edit/planning.worker'
import { addressOf } from './tag-address'

/** How often the states of all tags are looked at, ms. */
const STATES_EVERY_MS = 3000

const noTags: readonly Tag[] = []

/** Sources and sampling groups by name and id; until `ready` no property can be judged by them. */
export function useAround(): { around: Surroundings; plain: Around; ready: boolean } {
  const sources = useCall('listSources')
  const groups = useCall('listGroups')
  return useMemo(() => {
    const plain: Around = {
      sources: (sources.data ?? []).map(({ id, name, kind }) => ({ id, name, kind })),
      groups: (groups.data ?? []).map(({ id, name }) => ({ id, name })),
    }
    const ready = sources.data !== undefined && groups.data !== undefined
    return { plain, ready, around: surroundings(plain.sources, plain.groups) }
  }, [sources.data, groups.data])
}

/** Looks at the states of all tags every few seconds; what was known stays while there is no answer. */
function useStates(): StateIndex | null {
  const [states, setStates] = useState<StateIndex | null>(null)
  useEffect(() => {
    const stop = new AbortController()
    let timer: ReturnType<typeof setTimeout>
    const look = async () => {
      try {
        const response = await fetch('/api/tags/states', { signal: stop.signal })
        if (response.ok) setStates(new StateIndex(decodeStates(await response.arrayBuffer()), serverNow()))
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
  return states
}

/** So many are shown before all tags are there. */
const FIRST = 200

/** All tags; until those are there the first by their names, as long as the query is `plain`: others would look through a part of them. */
function useAllTags(plain: boolean, pointed: boolean) {
  const there = queryClient.getQueryData(callKey('listTags')) !== undefined
  const early = plain && !pointed && !there
  const first = useCall('listTags', { query: { first: FIRST }, enabled: early })
  const all = useCall('listTags', { enabled: !early || first.isFetched })
  const whole = all.data !== undefined
  return [whole || all.error || !plain || !first.data ? all : first, whole] as const
}

/**
 * The tags that a query gives, with counts of each kind and the tree of folders; until all are there (`whole`) only the first
 * by their names. `pointed`: one of them is wanted by its id.
 */
export function useTagView(query: ViewQuery, pointed: boolean) {
  const [tags, whole] = useAllTags(
    Object.values(addressOf(query)).every((part) => part === null),
    pointed,
  )
  const sources = useCall('listSources')
  const used = useCall('usedTags')
  const { around, plain, ready } = useAround()
  const states = useStates()
  const list = useMemo(() => new TagList(tags.data ?? noTags), [tags.data])
  const folders = useMemo(() => (whole ? foldersOf(list.tags) : []), [list, whole])
  // What is looked through is made ready in small parts while nothing else is to be done.
  useEffect(() => {
    let id = requestIdleCallback(function part() {
      if (list.warm(1000)) id = requestIdleCallback(part)
    })
    return () => cancelIdleCallback(id)
  }, [list])
  const ctx = useMemo<ViewContext>(
    () => ({
      around,
      states,
      used: used.data ? new Set(used.data) : null,
      computed: new Set((sources.data ?? []).filter((s) => !kindView(s.kind).measured).map((s) => s.id)),
    }),
    [around, states, used.data, sources.data],
  )
  // Settings do not change with the values: only queries that follow those are looked up anew with them.
  const still = useRef(ctx)
  if (isLiveQuery(query) || still.current.around !== ctx.around || still.current.used !== ctx.used || still.current.computed !== ctx.computed)
    still.current = ctx
  const seen = still.current
  const rows = useMemo(() => list.view(query, seen), [list, query, seen])
  const counts = useMemo<Record<QuickKind, number>>(() => countKinds(list.tags, ctx), [list, ctx])
  return { tags, whole, sources, list, rows, folders, counts, around, plain, ready, states, statesKnown: states !== null }
}

export type TagView = ReturnType<typeof useTagView>
