import { toast } from 'sonner'
import type { ProofPlan, ProofProgress, ProofRun } from '~/contract/prove'
import { outcomeWords } from '~/core/prove/words'
import { useAsk } from '~/ui/Ask'
import { Button } from '~/ui/Button'
import { Glyph } from '~/ui/Glyph'
import { Pre } from '~/ui/Pre'
import { countText, Time } from '~/ui/time'
import { call, refresh, useCall } from '../../app/api'
import { useMay } from '../../app/caller'
import { Asked } from '../../shared/Asked'
import { tellFailure } from '../../shared/problems'
import { RunReport } from './RunReport'
import { planWords, stateOf } from './words'

const phases: Record<ProofProgress['phase'], string> = {
  preparing: 'The links are laid through the proxy',
  running: 'It runs',
  settling: 'The last messages get their verdicts',
  reporting: 'The report is written and signed',
  over: 'It is over',
}
const faultStates: Record<ProofProgress['faults'][number]['state'], string> = {
  ahead: 'still ahead',
  on: 'on now',
  recovering: 'over; not all is well again yet',
  recovered: 'over; all is well again',
  never: 'over; not all was well again',
}
const reports: [as: 'zip' | 'html' | 'pdf' | 'json' | 'junit', label: string][] = [
  ['zip', 'All, signed (zip)'],
  ['html', 'HTML'],
  ['pdf', 'PDF'],
  ['json', 'JSON'],
  ['junit', 'JUnit XML'],
]

/** One run: how it stands while it runs, and what it ended in. */
export function RunView({ id, runs, onAgain, onGone }: { id: string; runs: readonly ProofRun[]; onAgain(plan: ProofPlan): void; onGone(): void }) {
  const asked = useCall('proofRun', {
    params: { id },
    // Until it says itself that it is over: the list may learn of it earlier.
    refetchMs: (last) => (last?.run.outcome === null ? 1000 : false),
    keepPrevious: true,
  })
  const mayEdit = useMay('engineer')
  const ask = useAsk()
  const stop = async () => {
    try {
      await call('stopProofRun', { params: { id } })
      toast('It stops: what it changed is undone')
    } catch (e) {
      tellFailure(e)
    }
  }
  const remove = async (run: ProofRun) => {
    const text = 'Its report goes with it. What was taken away of it stays good.'
    if (!(await ask({ title: `Remove ${run.name}?`, text, act: 'Remove the run' }))) return
    try {
      await call('removeProofRun', { params: { id } })
      await refresh('listProofRuns')
      onGone()
    } catch (e) {
      tellFailure(e)
    }
  }
  return (
    <div className="min-h-0 flex-1 overflow-auto px-4 py-3">
      <Asked of={asked}>
        {({ run, plan, progress, report, signed }) => (
          <>
            <h2 className="flex items-center gap-2 text-[19px] leading-6 font-semibold" data-sentence>
              <Glyph state={stateOf(run)} />
              {run.outcome === null ? `${run.name} runs` : `${run.name}: ${outcomeWords[run.outcome].toLowerCase()}`}
            </h2>
            <p className="mt-1 mb-2 text-muted">
              {planWords(plan)}; by {run.by}, <Time at={run.startedAt} date />
              {run.why !== '' && <span className="text-ink">. {run.why}</span>}
            </p>
            <div className="flex flex-wrap items-center gap-2">
              {progress && mayEdit && <Button onClick={() => void stop()}>Stop the run</Button>}
              {report &&
                reports.map(([as, label]) => (
                  <a
                    key={as}
                    className="inline-flex h-6 items-center rounded-sm border border-line bg-sheet px-2 text-xs hover:border-muted"
                    href={`/api/proof-runs/${id}/report?as=${as}`}
                    download
                  >
                    {label}
                  </a>
                ))}
              {mayEdit && run.outcome !== null && (
                <>
                  <Button small onClick={() => onAgain(plan)}>
                    Run it again
                  </Button>
                  <Button small kind="quiet" onClick={() => void remove(run)}>
                    Remove the run
                  </Button>
                </>
              )}
            </div>
            {progress && <Progress progress={progress} />}
            {report && (
              <>
                <RunReport report={report} signed={signed} others={runs.filter((r) => r.id !== id && r.sha256 !== '')} />
                <Check sha256={run.sha256} />
              </>
            )}
          </>
        )}
      </Asked>
    </div>
  )
}

function Progress({ progress: p }: { progress: ProofProgress }) {
  const share = p.phase === 'running' ? Math.min(1, p.seconds / p.of) : p.phase === 'preparing' ? 0 : 1
  return (
    <section className="mt-3 max-w-2xl" aria-label="How it stands">
      <div className="h-2 rounded-sm bg-well" role="progressbar" aria-label="Of the run" aria-valuenow={Math.round(share * 100)}>
        <div className="h-2 rounded-sm bg-clay" style={{ width: `${share * 100}%` }} />
      </div>
      <p className="mt-1.5" role="status">
        {phases[p.phase]}: {Math.floor(p.seconds)} of {p.of} s, {countText(p.produced)} produced, {countText(p.judged)} with their verdict
      </p>
      <ul>
        {p.faults.map((f) => (
          <li key={f.words} className="text-muted">
            {f.words}: <span className="text-ink">{faultStates[f.state]}</span>
            {f.recoveredS !== null && ` after ${f.recoveredS} s`}
          </li>
        ))}
      </ul>
    </section>
  )
}

/** How somebody who trusts nobody checks the report. */
function Check({ sha256 }: { sha256: string }) {
  const key = useCall('plantKey')
  return (
    <section aria-label="How to check it" className="mt-4 max-w-3xl">
      <p className="text-muted">
        Whoever gets the zip checks it with OpenSSL alone, and asks you for the fingerprint of the plant's key over another way. SHA-256 of the JSON:{' '}
        <code className="font-mono text-xs break-all text-ink">{sha256}</code>
      </p>
      <Pre
        label="Command that checks the report"
        className="mt-1 bg-sheet px-2 py-1 text-xs"
      >{`openssl dgst -sha256 -verify plant-key.pem -signature report.json.sig report.json\n\nplant key ${key.data?.fingerprint ?? '...'}`}</Pre>
    </section>
  )
}
