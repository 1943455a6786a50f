import { fail } from '~/contract/failure'
import type { PlantKey, ProofOutcome, ProofPlan, ProofRun } from '~/contract/prove'
import type { Conn, Db } from './database'
import { publicKeyOf } from './plant-key'
import { transacted } from './transacted'

/** So many runs are kept; beyond it the oldest go. */
const KEPT = 500

/** What a report is made of, each part as it was signed. */
export type ReportPart = 'json' | 'html' | 'pdf'
export interface SignedPart {
  part: ReportPart
  body: Buffer
  /** Base64 of its DER form. */
  signature: string
}

const columns = ['id', 'name', 'made_by', 'started_at', 'ended_at', 'outcome', 'why', 'sha256'] as const
interface Row {
  id: string
  name: string
  made_by: string
  started_at: Date
  ended_at: Date | null
  outcome: ProofOutcome | null
  why: string
  sha256: string
}

const toRun = (r: Row): ProofRun => ({
  ...{ id: r.id, name: r.name, by: r.made_by, startedAt: r.started_at.getTime(), endedAt: r.ended_at?.getTime() ?? null },
  ...{ outcome: r.outcome, why: r.why, sha256: r.sha256 },
})

/** The newest first. */
export async function listProofRuns(db: Conn): Promise<ProofRun[]> {
  return (await db.selectFrom('proof_run').select(columns).orderBy('started_at', 'desc').limit(KEPT).execute()).map(toRun)
}

export async function getProofRun(db: Conn, id: string): Promise<{ run: ProofRun; plan: ProofPlan }> {
  const row = await db
    .selectFrom('proof_run')
    .select([...columns, 'plan'])
    .where('id', '=', id)
    .executeTakeFirst()
  if (!row) throw fail(404, 'proof.unknown', 'There is no such proof run', 'It may have been removed: refresh the list', 'proof')
  return { run: toRun(row), plan: row.plan }
}

export async function addProofRun(db: Conn, id: string, plan: ProofPlan, by: string): Promise<void> {
  await db
    .insertInto('proof_run')
    .values({ id, name: plan.name, plan: JSON.stringify(plan), made_by: by, ended_at: null, outcome: null })
    .execute()
}

/** It is over; with its report, as it was signed. The oldest beyond those that are kept go. */
export async function endProofRun(
  db: Db,
  id: string,
  end: { outcome: ProofOutcome; why: string; sha256: string; keyId: string; parts: readonly SignedPart[] },
): Promise<void> {
  await transacted(db, async (tx) => {
    await tx
      .updateTable('proof_run')
      .set({ ended_at: new Date(), outcome: end.outcome, why: end.why, sha256: end.sha256 })
      .where('id', '=', id)
      .execute()
    if (end.parts.length > 0)
      await tx
        .insertInto('proof_report')
        .values(end.parts.map((p) => ({ ...p, run_id: id, key_id: end.keyId })))
        .execute()
    const beyond = tx.selectFrom('proof_run').select('id').orderBy('started_at', 'desc').offset(KEPT).limit(KEPT)
    await tx.deleteFrom('proof_run').where('id', 'in', beyond).where('ended_at', 'is not', null).execute()
  })
}

/** Runs that an engine began and did not bring to their end: it is over with them. */
export async function failProofRuns(db: Conn, why: string): Promise<number> {
  const done = await db
    .updateTable('proof_run')
    .set({ ended_at: new Date(), outcome: 'failed', why })
    .where('ended_at', 'is', null)
    .executeTakeFirst()
  return Number(done.numUpdatedRows)
}

export async function removeProofRun(db: Conn, id: string): Promise<void> {
  const { run } = await getProofRun(db, id)
  if (run.outcome === null) throw fail(409, 'proof.runs', `${run.name} still runs`, 'Stop it first', 'proof')
  await db.deleteFrom('proof_run').where('id', '=', id).execute()
}

/** A report with the key that signed it. */
export async function reportOf(db: Conn, id: string): Promise<{ run: ProofRun; parts: SignedPart[]; key: PlantKey }> {
  const { run } = await getProofRun(db, id)
  const rows = await db.selectFrom('proof_report').select(['part', 'body', 'signature', 'key_id']).where('run_id', '=', id).execute()
  const [first] = rows
  if (!first) throw fail(409, 'proof.no-report', `${run.name} has no report`, run.why || 'It did not come to its end', 'proof')
  return { run, parts: rows.map(({ key_id: _, ...p }) => p), key: await publicKeyOf(db, first.key_id) }
}
