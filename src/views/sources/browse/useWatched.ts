import { useEffect, useState } from 'react'
import type { BrowseNode, WatchedValues } from '~/contract/source'
import { DataType } from '~/contract/tag'
import { callStream } from '../../app/api'
import { useLasting } from '../../app/lasting'

const WATCHED_MAX = 200

export type Watched = WatchedValues['values'][number]

/** Present values of the first chosen nodes, before they are tags; `old` while the source or the line is silent. */
export function useWatched(
  sourceId: string,
  nodes: readonly BrowseNode[],
): { values: ReadonlyMap<string, Watched>; problem: string | null; old: boolean } {
  const [values, setValues] = useState<ReadonlyMap<string, Watched>>(new Map())
  const [problem, setProblem] = useState<string | null>(null)
  const watched = nodes.slice(0, WATCHED_MAX)
  const key = watched.length === 0 ? null : [sourceId, ...watched.map((n) => n.address)].join('\n')
  // biome-ignore lint/correctness/useExhaustiveDependencies: of another source nothing is known yet
  useEffect(() => setValues(new Map()), [sourceId])
  // biome-ignore lint/correctness/useExhaustiveDependencies: the key says which nodes
  useEffect(() => setProblem(null), [key])
  const lasting = useLasting(key, (signal, alive) => {
    const body = { nodes: watched.map((n) => ({ address: n.address, dataType: DataType.safeParse(n.dataType).data ?? 'text' })) }
    return callStream(
      'watchNodes',
      { params: { id: sourceId }, body, signal },
      (line) => {
        setProblem(line.problem?.message ?? null)
        if (line.values.length > 0) setValues((had) => new Map([...had, ...line.values.map((v) => [v.address, v] as const)]))
      },
      alive,
    )
  })
  return { values, problem: lasting.problem?.message ?? problem, old: lasting.state === 'old' || lasting.problem !== null }
}
