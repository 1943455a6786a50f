import { useEffect, useRef, useState } from 'react'
import type { Budget, BudgetSum } from '~/contract/budget'
import type { Failure } from '~/contract/failure'
import type { Publication, PublicationDraft } from '~/contract/publication'
import { type Variant, variantsOf } from '~/core/budget/variants'
import { serverNow } from '~/ui/clock'
import { call, failureIn } from '../../app/api'

/** One way to send it, reckoned; `wrong`: it cannot be. */
export interface Reckoned extends Variant {
  budget: Budget | null
  wrong: Failure | null
}

/** What the publication really sent in that time, or why that is not known. */
export interface Really {
  sum: BudgetSum | null
  wrong: Failure | null
}

/** A draft and other ways to send the same, reckoned one after the other from what was recorded. */
export function useBudgets(publication: Publication | null, draft: PublicationDraft) {
  const [found, setFound] = useState<readonly Reckoned[]>([])
  const [really, setReally] = useState<Really | null>(null)
  const [under, setUnder] = useState<{ done: number; of: number } | null>(null)
  const [problem, setProblem] = useState<Failure | null>(null)
  const abort = useRef<AbortController | null>(null)
  const stop = () => abort.current?.abort()
  useEffect(() => () => abort.current?.abort(), [])

  const run = async (minutes: number) => {
    stop()
    const { signal } = (abort.current = new AbortController())
    // It may be reckoned before it has a name.
    const named = { ...draft, name: draft.name || 'draft' }
    const variants = variantsOf(named)
    setFound([])
    setReally(null)
    setProblem(null)
    let to = serverNow()
    let from = to - minutes * 60_000
    try {
      for (const [done, variant] of variants.entries()) {
        setUnder({ done, of: variants.length })
        const one: Reckoned = { ...variant, budget: null, wrong: null }
        try {
          one.budget = await call('budgetPublication', { body: { draft: { ...named, ...variant.change }, from, to }, signal })
        } catch (e) {
          // Without the first there is nothing to hold the others against.
          if (signal.aborted || done === 0) throw e
          one.wrong = failureIn(e)
        }
        // All of them over the same time: that of which the first could be reckoned.
        if (done === 0) ({ from, to } = one.budget!)
        setFound((before) => [...before, one])
        if (done === 0 && publication?.liveVersion != null)
          setReally(
            await call('sentByPublication', { params: { id: publication.id }, query: { from, to }, signal }).then(
              (sum): Really => ({ sum, wrong: null }),
              (e: unknown): Really => ({ sum: null, wrong: failureIn(e) }),
            ),
          )
      }
    } catch (e) {
      if (!signal.aborted) setProblem(failureIn(e))
    } finally {
      if (abort.current?.signal === signal) setUnder(null)
    }
  }
  return { found, really, under, problem, run, stop }
}
