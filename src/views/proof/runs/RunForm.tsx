import { useState } from 'react'
import type { Destination } from '~/contract/destination'
import { ProofPlan } from '~/contract/prove'
import type { Publication } from '~/contract/publication'
import { Button } from '~/ui/Button'
import { Modal } from '~/ui/Modal'
import { Heading, ProblemNote } from '~/ui/Notes'
import { call, failureIn, refresh } from '../../app/api'
import { SpanInput } from '../../publications/when/SpanInput'
import { NumberBox } from '../../shared/NumberBox'
import { useDraft } from '../../shared/useDraft'
import { FaultFields } from './FaultFields'
import { LimitFields } from './LimitFields'
import { planWords } from './words'

interface Props {
  /** What it begins with: an earlier run, or a fresh one. */
  from: ProofPlan
  publications: readonly Publication[]
  destinations: readonly Destination[]
  onBegun(id: string): void
  onClose(): void
}

/** What is tested, for how long, with which load and faults, and what has to hold. */
export function RunForm({ from, publications, destinations, onBegun, onClose }: Props) {
  const own = useDraft<ProofPlan>(`proof run ${from.name}`, null, from)
  const plan = own.draft
  const [problem, setProblem] = useState<ReturnType<typeof failureIn> | null>(null)
  const [tried, setTried] = useState(false)
  const [busy, setBusy] = useState(false)
  const set = (part: Partial<ProofPlan>) => own.setDraft({ ...plan, ...part })
  const parsed = ProofPlan.safeParse(plan)
  const wrong = Object.fromEntries((parsed.error?.issues ?? []).map((i) => [i.path.join('.'), i.message]))
  // What is still to be filled in is said only when it is begun.
  const error = (field: string) => (tried || !/^(name|publicationIds)$/.test(field) ? wrong[field] : undefined)
  const live = publications.filter((p) => p.state === 'live')
  const touched = new Set(live.filter((p) => plan.publicationIds.includes(p.id)).map((p) => p.destinationId))
  const begin = async () => {
    setTried(true)
    if (!parsed.success) return
    setBusy(true)
    try {
      const { id } = await call('startProofRun', { body: parsed.data })
      own.forget()
      await refresh('listProofRuns')
      onBegun(id)
    } catch (e) {
      setProblem(failureIn(e))
    } finally {
      setBusy(false)
    }
  }
  const tick = (id: string, on: boolean) =>
    set({ publicationIds: on ? [...plan.publicationIds, id] : plan.publicationIds.filter((other) => other !== id) })
  return (
    <Modal
      open
      onClose={onClose}
      title="New proof run"
      note="Real publications, real links: faults are made by a proxy that stands between for the time of the run. Nothing of the settings is changed."
      width={760}
      foot={
        <>
          <span className="mr-auto text-muted" role="status">
            {planWords(plan)}
          </span>
          <Button onClick={onClose}>Not now</Button>
          <Button kind="main" busy={busy} onClick={() => void begin()}>
            Begin the run
          </Button>
        </>
      }
    >
      <div className="grid gap-2.5">
        {problem && <ProblemNote problem={problem} />}
        <label className="flex items-center gap-2">
          <span className="w-28 text-muted">Name</span>
          <input
            className={`field flex-1 ${error('name') ? 'border-bad' : ''}`}
            value={plan.name}
            placeholder="Acceptance, line 1"
            onChange={(e) => set({ name: e.target.value })}
          />
        </label>
        {error('name') && (
          <p role="alert" className="text-xs text-bad">
            {error('name')}
          </p>
        )}
        <fieldset aria-label="Publications" className="max-h-44 overflow-auto rounded-sm border border-line bg-paper py-1">
          {live.map((p) => (
            <label key={p.id} className="flex h-[24px] items-center gap-2 px-2 hover:bg-well/60">
              <input
                type="checkbox"
                className="accent-(--clay)"
                checked={plan.publicationIds.includes(p.id)}
                onChange={(e) => tick(p.id, e.target.checked)}
              />
              <span className="truncate">{p.name}</span>
              <span className="ml-auto shrink-0 text-xs text-muted">{destinations.find((d) => d.id === p.destinationId)?.name}</span>
            </label>
          ))}
          {live.length === 0 && <p className="px-2 text-muted">No publication is live: go live with one first.</p>}
        </fieldset>
        {error('publicationIds') && (
          <p role="alert" className="text-xs text-bad">
            {error('publicationIds')}
          </p>
        )}
        <div className="flex flex-wrap items-center gap-x-5 gap-y-1.5">
          <span className="flex items-center gap-1.5">
            for
            <SpanInput label="For" value={plan.seconds} error={error('seconds')} onChange={(seconds) => set({ seconds: seconds ?? Number.NaN })} />
          </span>
          <span className="flex items-center gap-1.5">
            or until
            <NumberBox label="Messages" value={plan.messages ?? null} error={error('messages')} onChange={(n) => set({ messages: n ?? undefined })} />
            messages
          </span>
          <span className="flex items-center gap-1.5">
            simulated tags at
            <NumberBox label="Load" value={plan.load} error={error('load')} onChange={(n) => set({ load: n ?? Number.NaN })} />
            times their pace
          </span>
          <span className="flex items-center gap-1.5">
            verdicts within
            <SpanInput
              label="Verdicts within"
              value={plan.settleS}
              error={error('settleS')}
              onChange={(settleS) => set({ settleS: settleS ?? Number.NaN })}
            />
          </span>
        </div>
        {['seconds', 'messages', 'load', 'settleS'].map(
          (field) =>
            error(field) && (
              <p key={field} role="alert" className="text-xs text-bad">
                {error(field)}
              </p>
            ),
        )}
        <Heading>Faults on purpose</Heading>
        <FaultFields
          faults={plan.faults}
          seconds={plan.seconds}
          destinations={destinations.filter((d) => touched.has(d.id) && d.kind !== 'datagram')}
          error={error}
          onFaults={(faults) => set({ faults })}
        />
        <Heading>What has to hold</Heading>
        <LimitFields limits={plan.limits} error={error} onLimits={(limits) => set({ limits })} />
      </div>
    </Modal>
  )
}
