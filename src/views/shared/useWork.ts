import { useRef, useState } from 'react'
import type { Failure } from '~/contract/failure'
import { failureIn } from '../app/api'

/**
 * Work that somebody asked for, done once at a time: whether it is under way, and why the last of it failed. What comes while
 * one is under way is not begun. `onFailure` answers whether it has dealt with a failure itself; else that is the `problem`.
 * @returns of `run`: whether the work was done
 */
export function useWork(onFailure?: (failure: Failure, thrown: unknown) => boolean) {
  const [busy, setBusy] = useState(false)
  const [problem, setProblem] = useState<Failure | null>(null)
  const under = useRef(false)
  const run = async (work: () => Promise<unknown>): Promise<boolean> => {
    if (under.current) return false
    under.current = true
    setBusy(true)
    setProblem(null)
    try {
      await work()
      return true
    } catch (e) {
      const failure = failureIn(e)
      if (!onFailure?.(failure, e)) setProblem(failure)
      return false
    } finally {
      under.current = false
      setBusy(false)
    }
  }
  return { busy, problem, setProblem, run }
}
