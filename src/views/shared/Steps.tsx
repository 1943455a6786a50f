import { useEffect, useRef, useState } from 'react'
import type { CheckStep } from '~/contract/failure'
import type { RouteKey } from '~/contract/routes'
import { Spinner } from '~/ui/Button'
import { Glyph } from '~/ui/Glyph'
import { durationText } from '~/ui/time'
import { callStream, failureIn } from '../app/api'

/** What a check speaks of, as a text that is another when somebody has changed something: an empty field is one, however it is kept. */
export const checkedText = (settings: object): string =>
  Object.entries(settings)
    .map(([name, value]) => `${name} ${value === null || value === undefined ? '' : String(value)}`)
    .filter((text) => !text.endsWith(' '))
    .sort()
    .join('\n')

/**
 * Runs a step-by-step check, keeping its steps as they come; a new run or `stop` ends the old one. `of` says what is checked:
 * when that is changed, what was found goes.
 */
export function useCheck(route: Extract<RouteKey, 'checkSource' | 'checkDestination'>, of: string) {
  const [steps, setSteps] = useState<CheckStep[]>([])
  const [busy, setBusy] = useState(false)
  const abort = useRef<AbortController | null>(null)
  const found = useRef<string | null>(null)
  useEffect(() => {
    if (found.current === null || found.current === of) return
    found.current = null
    abort.current?.abort()
    setBusy(false)
    setSteps([])
  }, [of])
  const run = async (body: never): Promise<CheckStep[]> => {
    abort.current?.abort()
    const mine = new AbortController()
    abort.current = mine
    found.current = of
    setSteps([])
    setBusy(true)
    let all: CheckStep[] = []
    try {
      await callStream(route, { body, signal: mine.signal }, (step) => {
        all = [...all.filter((s) => s.key !== step.key), step]
        setSteps(all)
      })
    } catch (e) {
      if (!mine.signal.aborted)
        setSteps([{ key: 'check', label: 'Check', state: 'failed', detail: failureIn(e).message, ms: null, failure: failureIn(e) }])
    } finally {
      if (abort.current === mine) setBusy(false)
    }
    return all
  }
  const stop = () => {
    abort.current?.abort()
    setBusy(false)
  }
  return { steps, busy, run, stop }
}

/** The steps of a check: each with what came of it and how long it took, and what to do about a failure. */
export function Steps({ steps }: { steps: readonly CheckStep[] }) {
  return (
    <ol className="flex flex-col" aria-label="Check">
      {steps.map((s) => (
        <li key={s.key} data-step={s.key} data-state={s.state} className="border-b border-line py-[7px] last:border-0">
          <div className="flex items-center gap-2">
            {s.state === 'running' ? (
              <Spinner />
            ) : (
              <Glyph state={s.state === 'passed' ? 'good' : s.state === 'failed' ? 'bad' : 'idle'} title={s.state} />
            )}
            <span className={`font-semibold ${s.state === 'skipped' ? 'text-muted' : ''}`}>{s.label}</span>
            <span className="ml-auto font-mono text-xs text-muted">{s.ms === null ? '' : durationText(s.ms)}</span>
          </div>
          {s.detail && s.state !== 'running' && (
            <div className={`pl-[22px] text-[13px] break-words ${s.state === 'failed' ? 'text-bad' : 'text-muted'}`}>{s.detail}</div>
          )}
          {s.failure?.hint && <div className="pl-[22px] text-[13px] break-words">{s.failure.hint}</div>}
        </li>
      ))}
    </ol>
  )
}
