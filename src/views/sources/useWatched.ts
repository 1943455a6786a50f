import { useEffect, useState } from 'react'
import type { BrowseNode, WatchedValues } from '~/contract/source'
import { DataType } from '~/contract/tag'
import { callStream, failureIn } from '../app/api'

const WATCHED_MAX = 200

export type Watched = WatchedValues['values'][number]

/** Present values of the first chosen nodes, before they are tags. */
export function useWatched(sourceId: string, nodes: readonly BrowseNode[]): { values: ReadonlyMap<string, Watched>; problem: string | null } {
  const [values, setValues] = useState<ReadonlyMap<string, Watched>>(new Map())
  const [problem, setProblem] = useState<string | null>(null)
  const watched = nodes.slice(0, WATCHED_MAX)
  const key = watched.map((n) => n.address).join('\n')
  // biome-ignore lint/correctness/useExhaustiveDependencies: the key says which nodes
  useEffect(() => {
    setProblem(null)
    if (watched.length === 0) return
    const stop = new AbortController()
    // While boxes are being ticked one after the other, one question is enough.
    const timer = setTimeout(() => {
      const body = { nodes: watched.map((n) => ({ address: n.address, dataType: DataType.safeParse(n.dataType).data ?? 'text' })) }
      callStream('watchNodes', { params: { id: sourceId }, body, signal: stop.signal }, (line) => {
        if (line.problem) setProblem(line.problem.message)
        setValues((old) => new Map([...old, ...line.values.map((v) => [v.address, v] as const)]))
      }).catch((e: unknown) => {
        if (!stop.signal.aborted) setProblem(failureIn(e).message)
      })
    }, 400)
    return () => {
      clearTimeout(timer)
      stop.abort()
    }
  }, [sourceId, key])
  return { values, problem }
}
