import { useEffect, useState } from 'react'
import type { NamingHit } from '~/core/equipment/naming'
import type { Proposal } from '~/core/equipment/propose'
import type { PlantModel } from '../useModel'
import type { MatchingAnswer, MatchingTask } from './matching.worker'

interface State {
  hits: NamingHit[] | null
  proposals: Proposal[] | null
  progress: { done: number; total: number } | null
  problem: string | null
}
const nothing: State = { hits: null, proposals: null, progress: null, problem: null }

/** Runs a task over many equipment in a worker; a new one ends the one before. The task must be the same object until it changes. */
export function useMatching(task: MatchingTask | null, model: PlantModel): State {
  const [state, setState] = useState<State>(nothing)
  useEffect(() => {
    if (!task) return setState(nothing)
    const worker = new Worker(new URL('./matching.worker.ts', import.meta.url), { type: 'module' })
    setState((s) => ({ ...s, problem: null, progress: { done: 0, total: task.ids.length } }))
    worker.onmessage = (e: MessageEvent<MatchingAnswer>) => {
      const a = e.data
      if ('done' in a) setState((s) => ({ ...s, progress: a }))
      else {
        setState({ ...nothing, ...('hits' in a ? { hits: a.hits } : 'proposals' in a ? { proposals: a.proposals } : { problem: a.problem }) })
        worker.terminate()
      }
    }
    worker.onerror = (e) => setState({ ...nothing, problem: e.message || 'The work could not be begun' })
    worker.postMessage({ model: { equipment: model.list, classes: [...model.classes.values()], tags: model.tagList } })
    worker.postMessage({ task })
    return () => worker.terminate()
  }, [task, model])
  return state
}
