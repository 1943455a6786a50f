import { useEffect, useRef, useState } from 'react'
import type { CredentialUse } from '~/contract/credential'
import type { CheckStep } from '~/contract/failure'
import type { Replacement } from '~/contract/replacement'
import { callStream, failureIn } from '../../app/api'

export type Checked = ReadonlyMap<string, readonly CheckStep[]>

/** How it went with one that uses the credential. */
export function outcomeOf(steps: readonly CheckStep[] | undefined): 'not yet' | 'running' | 'passed' | 'failed' {
  if (!steps || steps.length === 0) return 'not yet'
  if (steps.some((s) => s.state === 'failed')) return 'failed'
  return steps.every((s) => s.state === 'passed' || s.state === 'skipped') ? 'passed' : 'running'
}

/** Tries the new one with all that use a credential, one after the other; what was found goes when the new one is another. `of` says which it is. */
export function useReplacementChecks(id: string, uses: readonly CredentialUse[], of: string) {
  const [checked, setChecked] = useState<Checked>(new Map())
  const [busy, setBusy] = useState(false)
  const abort = useRef<AbortController | null>(null)
  // biome-ignore lint/correctness/useExhaustiveDependencies: another new one is another thing to check
  useEffect(() => {
    abort.current?.abort()
    setChecked(new Map())
    setBusy(false)
  }, [of])
  useEffect(() => () => abort.current?.abort(), [])

  const one = async (use: CredentialUse, replacement: Replacement, signal: AbortSignal): Promise<readonly CheckStep[]> => {
    let steps: readonly CheckStep[] = []
    const tell = (next: readonly CheckStep[]) => {
      steps = next
      if (!signal.aborted) setChecked((old) => new Map(old).set(use.id, next))
    }
    try {
      const body = { replacement, use: { kind: use.kind, id: use.id } }
      await callStream('checkReplacement', { params: { id }, body, signal }, (step) => tell([...steps.filter((s) => s.key !== step.key), step]))
    } catch (e) {
      const failure = failureIn(e)
      if (!signal.aborted) tell([{ key: 'check', label: 'Check', state: 'failed', detail: failure.message, ms: null, failure }])
    }
    return steps
  }
  /** Resolves with whether all of them could connect. */
  const run = async (replacement: Replacement): Promise<boolean> => {
    abort.current?.abort()
    const mine = new AbortController()
    abort.current = mine
    setChecked(new Map())
    setBusy(true)
    let passed = true
    for (const use of uses) {
      const steps = await one(use, replacement, mine.signal)
      if (mine.signal.aborted) return false
      passed &&= outcomeOf(steps) === 'passed'
    }
    setBusy(false)
    return passed
  }
  const stop = () => {
    abort.current?.abort()
    setBusy(false)
  }
  return { checked, busy, run, stop }
}
