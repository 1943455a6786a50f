import { createHash } from 'node:crypto'
import { FailureError, fail } from '~/contract/failure'
import { newId } from '~/contract/id'
import type { ProofPlan, ProofProgress, ProofReport } from '~/contract/prove'
import { htmlOf } from '~/core/prove/html'
import { outcomeWords } from '~/core/prove/words'
import { signer } from '~/store/plant-key'
import { addProofRun, endProofRun, failProofRuns, type ReportPart } from '~/store/proof-run'
import type { Engine } from '../engine'
import { log, wordsOf } from '../log'
import { pdfOf } from './pdf'
import { ProofRunning } from './proof-run'

const STARTED_ANEW = 'The engine was started anew while it ran.'
/** A report that could not be kept, as while the database is away, is tried again so often, ms. */
const KEEP_AGAIN_MS = 2000

/** With what anybody checks a report: one command, for one of its files. */
export const checkCommand = (file: string): string => `openssl dgst -sha256 -verify plant-key.pem -signature ${file}.sig ${file}`

/** Proof runs of this engine: one at a time, so that none measures what another one does. */
export class ProofRuns {
  private running: ProofRunning | null = null
  private ended: Promise<void> = Promise.resolve()
  private ending = false

  constructor(private readonly engine: Engine) {}

  /** Runs that an earlier engine began are over. */
  async begin(): Promise<void> {
    const count = await failProofRuns(this.engine.options.db, STARTED_ANEW)
    if (count > 0) log('warn', 'proof', `${count} proof runs ended with the engine that ran them`)
  }

  /** Begins a run; gives its id. */
  async start(plan: ProofPlan, by: string): Promise<string> {
    if (this.running)
      throw fail(409, 'proof.busy', `${this.running.plan.name} runs: two at once would measure each other`, 'Wait for its end, or stop it', 'proof')
    const id = newId()
    const running = new ProofRunning(this.engine, id, plan, by)
    this.running = running
    try {
      await addProofRun(this.engine.options.db, id, plan, by)
    } catch (e) {
      this.running = null
      throw e
    }
    this.ended = this.through(running)
    return id
  }

  /** Null: it does not run, here and now. */
  progress(id: string): ProofProgress | null {
    return this.running?.id === id ? this.running.progress : null
  }

  stop(id: string, by: string): void {
    if (this.running?.id !== id) throw fail(409, 'proof.over', 'It does not run any more', 'Refresh the list', 'proof')
    this.running.stop(`${by} stopped it`)
  }

  private async through(running: ProofRunning): Promise<void> {
    try {
      const report = await running.run()
      await this.keep(report)
      this.engine.events.add({
        severity: report.outcome === 'held' ? 'good' : report.outcome === 'broken' ? 'trouble' : 'note',
        ...{ where: 'proof', subjectId: running.id, subject: report.name, code: 'proof.over' },
        message: `Proof run: ${outcomeWords[report.outcome]}. ${report.counts.produced} messages in ${report.seconds} s`,
        hint: report.limits.find((l) => l.outcome === 'broken')?.words ?? report.why,
      })
    } catch (e) {
      log('error', 'proof', `${running.plan.name}: its report could not be kept: ${wordsOf(e)}`)
      await failProofRuns(this.engine.options.db, `Its report could not be kept: ${wordsOf(e)}`).catch(() => 0)
    } finally {
      this.running = null
    }
  }

  /** Signs a report and keeps it; a database that is away is waited for. */
  private async keep(report: ProofReport): Promise<void> {
    const { db, vault } = this.engine.options
    for (;;) {
      try {
        const { keyId, key, sign } = await signer(db, vault)
        const json = Buffer.from(`${JSON.stringify(report, null, 1)}\n`)
        const bodies: [ReportPart, Buffer][] = [
          ['json', json],
          ['html', Buffer.from(htmlOf(report, { fingerprint: key.fingerprint, command: checkCommand('report.html') }))],
          ['pdf', await pdfOf(report, { fingerprint: key.fingerprint, command: checkCommand('report.pdf') })],
        ]
        const parts = bodies.map(([part, body]) => ({ part, body, signature: sign(body) }))
        const sha256 = createHash('sha256').update(json).digest('hex')
        return await endProofRun(db, report.id, { outcome: report.outcome, why: report.why, sha256, keyId, parts })
      } catch (e) {
        // What no waiting mends, as a key that cannot be opened, is told.
        if (e instanceof FailureError || this.ending) throw e
        await new Promise<void>((done) => this.engine.clock.after(KEEP_AGAIN_MS, done))
      }
    }
  }

  /** The engine ends: what is measured by then is told, and what was changed is undone. */
  async end(): Promise<void> {
    this.ending = true
    this.running?.stop('The engine was stopped')
    await this.ended
  }
}
