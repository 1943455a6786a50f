import { useRef } from 'react'
import type { Step } from '~/contract/step'

const KEPT = 100
/** What is typed within so long is one change, ms. */
const ONE_CHANGE_MS = 1500

/** Takes back changes to steps, one after the other, and does them again. */
export function useStepHistory(steps: readonly Step[], change: (steps: readonly Step[]) => void) {
  const kept = useRef<{ undo: (readonly Step[])[]; redo: (readonly Step[])[]; at: number }>({ undo: [], redo: [], at: 0 })
  const go = (from: 'undo' | 'redo', to: 'undo' | 'redo') => {
    const before = kept.current[from].pop()
    if (!before) return false
    kept.current[to].push(steps)
    kept.current.at = 0
    change(before)
    return true
  }
  return {
    set(next: readonly Step[]) {
      const now = performance.now()
      const typing = next.length === steps.length && now - kept.current.at < ONE_CHANGE_MS
      if (!typing) kept.current.undo = [...kept.current.undo.slice(1 - KEPT), steps]
      kept.current.at = now
      kept.current.redo = []
      change(next)
    },
    undo: () => go('undo', 'redo'),
    redo: () => go('redo', 'undo'),
  }
}
