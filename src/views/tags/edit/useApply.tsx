import { useRef, useState } from 'react'
import { toast } from 'sonner'
import { editOf, type Plan } from '~/core/tag/plan'
import { Button } from '~/ui/Button'
import { type Problem, ProblemNote } from '~/ui/Notes'
import { countText } from '~/ui/time'
import { failureIn, refresh } from '../../app/api'
import type { Progress } from '../../shared/undo'
import { tagEdits } from './edits'

/** `3 tags added, 2 changed`. */
function said(counts: Plan['counts']): string {
  const parts = [
    counts.add > 0 && `${countText(counts.add)} ${counts.add === 1 ? 'tag' : 'tags'} added`,
    counts.change > 0 && `${countText(counts.change)} ${counts.add > 0 ? '' : counts.change === 1 ? 'tag ' : 'tags '}changed`,
  ].filter(Boolean)
  return parts.join(', ')
}

/** Doing what a plan says: the buttons for it, how far it is, a way to stop it, and what refused it. */
export function useApply(plan: Plan | null, onDone: () => void) {
  const [progress, setProgress] = useState<Progress | null>(null)
  const [problem, setProblem] = useState<Problem | null>(null)
  const stop = useRef<AbortController | null>(null)
  const good = plan ? plan.counts.add + plan.counts.change : 0
  const apply = async () => {
    if (!plan) return
    stop.current = new AbortController()
    setProblem(null)
    setProgress({ done: 0, total: good })
    try {
      await tagEdits.apply(editOf(plan.rows), said(plan.counts), setProgress, stop.current.signal)
      toast(said(plan.counts), { action: { label: 'Undo', onClick: () => void tagEdits.undo() } })
      onDone()
    } catch (e) {
      if (stop.current.signal.aborted) {
        setProblem({ message: 'Stopped', hint: 'Nothing was saved, unless all was done just then: the table shows how it is' })
        void refresh('listTags')
      } else {
        const f = failureIn(e)
        setProblem({ message: f.message, hint: f.fields ? `${f.hint}: ${Object.values(f.fields).slice(0, 3).join('; ')}` : f.hint })
      }
    } finally {
      setProgress(null)
    }
  }
  const foot = progress ? (
    <>
      <Bar {...progress} />
      <Button onClick={() => stop.current?.abort()}>Stop</Button>
    </>
  ) : (
    <>
      {plan && plan.counts.faulty > 0 && (
        <span className="mr-auto text-muted">
          {countText(plan.counts.faulty)} {plan.counts.faulty === 1 ? 'row is' : 'rows are'} refused and would be left out
        </span>
      )}
      <Button kind="main" disabled={!plan || good === 0} onClick={() => void apply()}>
        {!plan || good === 0 ? 'Nothing to do' : plan.counts.faulty > 0 ? `Apply only the ${countText(good)} good` : `Apply all ${countText(good)}`}
      </Button>
    </>
  )
  const note = problem && (
    <div className="mb-2">
      <ProblemNote problem={problem} />
    </div>
  )
  return { foot, note, busy: progress !== null }
}

/** How far long work is. */
export function Bar({ done, total, what = '' }: Progress & { what?: string }) {
  return (
    <div className="mr-auto flex items-center gap-2" role="progressbar" aria-valuenow={done} aria-valuemax={total}>
      <span className="h-[9px] w-44 overflow-hidden rounded-[2px] border border-line bg-sheet">
        <span className="block h-full bg-slate" style={{ width: `${total > 0 ? (100 * done) / total : 0}%` }} />
      </span>
      <span className="font-mono text-[12px] text-muted">
        {what} {countText(done)} of {countText(total)}
      </span>
    </div>
  )
}
