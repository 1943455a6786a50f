import { useEffect, useState } from 'react'
import type { Tag } from '~/contract/tag'
import type { Problem } from '~/ui/Notes'
import type { Progress } from '../../shared/undo'
import { type Planned, planInWorker, Refused } from './planning'
import type { Around, PlanningTask } from './planning.worker'

interface State {
  planned: Planned | null
  problem: Problem | null
  progress: Progress | null
}
const nothing: State = { planned: null, problem: null, progress: null }

/**
 * The plan of a task, made in a worker; a new task ends the one before, and null is none. The task must be the same object
 * until something about it changes.
 */
export function usePlan(task: Exclude<PlanningTask, { do: 'write' }> | null, tags: readonly Tag[], around: Around): State {
  const [state, setState] = useState<State>(nothing)
  useEffect(() => {
    if (!task) return setState(nothing)
    const stop = new AbortController()
    setState((s) => ({ ...s, problem: null, progress: { done: 0, total: 0 } }))
    planInWorker(task, tags, around, stop.signal, (done, total) => setState((s) => ({ ...s, progress: { done, total } }))).then(
      (planned) => setState({ planned, problem: null, progress: null }),
      (e: unknown) => {
        if (stop.signal.aborted) return
        setState({ planned: null, problem: e instanceof Refused ? e.problem : { message: String(e), hint: 'Load the page again' }, progress: null })
      },
    )
    return () => stop.abort()
  }, [task, tags, around])
  return state
}
