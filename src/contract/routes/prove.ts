import { z } from 'zod'
import { Id } from '../id'
import { paths } from '../paths'
import { PlantKey, ProofPlan, ProofProgress, ProofReport, ProofRun } from '../prove'
import { list, type Route } from './route'

/** Proof runs and their reports. */
export const proveRoutes = {
  listProofRuns: {
    ...paths.listProofRuns,
    role: 'viewer',
    group: 'Proof runs',
    summary: 'All proof runs, the newest first',
    answer: list(ProofRun),
  },
  startProofRun: {
    ...paths.startProofRun,
    role: 'engineer',
    group: 'Proof runs',
    summary: 'Begin a proof run: a timed test of publications that are live, with faults and limits',
    body: ProofPlan,
    answer: z.object({ id: Id, name: z.string() }),
  },
  proofRun: {
    ...paths.proofRun,
    role: 'viewer',
    group: 'Proof runs',
    summary: 'A proof run: what it does, how it stands, and what it ended in',
    answer: z.object({
      run: ProofRun,
      plan: ProofPlan,
      progress: ProofProgress.nullable().describe('Null: it is over'),
      report: ProofReport.nullable(),
      signed: z.boolean().describe('What is kept of its report is as it was signed'),
    }),
  },
  stopProofRun: {
    ...paths.stopProofRun,
    role: 'engineer',
    group: 'Proof runs',
    summary: 'Stop a proof run; what it changed is undone, and what it measured is told',
    answer: null,
  },
  removeProofRun: { ...paths.removeProofRun, role: 'engineer', group: 'Proof runs', summary: 'Remove a proof run with its report', answer: null },
  proofReport: {
    ...paths.proofReport,
    role: 'viewer',
    group: 'Proof runs',
    summary: 'The report of a proof run: all of it with its signatures as a zip, or one part',
    query: z.object({ as: z.enum(['zip', 'json', 'html', 'pdf', 'junit']).default('zip') }),
    answer: z.unknown(),
    as: 'application/octet-stream',
  },
  plantKey: {
    ...paths.plantKey,
    role: 'viewer',
    group: 'Proof runs',
    summary: 'The public key with which reports of this installation are signed',
    answer: PlantKey,
  },
} as const satisfies Record<string, Route>
