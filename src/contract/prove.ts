import { z } from 'zod'
import { PeerClock } from './clock'
import { Id, Name } from './id'

/** What is done to the links of a destination: by a proxy that stands between for the time of a run. */
export const FaultKind = z
  .enum(['cut', 'kill', 'refuse', 'silent', 'slow', 'thin'])
  .describe(
    'cut: connections are reset and none is let in; kill: connections are reset, once; refuse: those that stand stay, none is let in; silent: nothing comes through, and nobody is told; slow: all comes later; thin: few octets a second',
  )
export type FaultKind = z.infer<typeof FaultKind>

export const ProofFault = z.object({
  destinationId: Id,
  kind: FaultKind,
  atS: z.number('A number of seconds').min(0, 'At least 0 s').max(86_400, 'At most a day').describe('So long after the run began'),
  forS: z.number('A number of seconds').min(0.1, 'At least 0.1 s').max(3600, 'At most an hour'),
  way: z.enum(['both', 'there', 'back']).default('both').describe('Of silent: which way is'),
  ms: z.number('A number of ms').min(1, 'At least 1 ms').max(60_000, 'At most a minute').default(1000).describe('Of slow: so much later, each way'),
  octetsPerS: z.number('A number').int().min(10, 'At least 10').max(10_000_000).default(1000).describe('Of thin: so many octets a second, each way'),
})
export type ProofFault = z.infer<typeof ProofFault>

/** Of how many messages it is held at most; null: it is not held. */
const atMost = z.number('A number of messages').int('A whole number').min(0, 'At least 0').nullable()

/** What has to hold for a run to be good. */
export const ProofLimits = z.object({
  missing: atMost.default(0),
  doubled: atMost.default(0),
  altered: atMost.default(0),
  disordered: atMost.default(null),
  late: atMost.default(null),
  dropped: atMost.default(0),
  rejected: atMost.default(0),
  unknown: atMost.default(0).describe('Nobody can say whether they arrived; with those that had no verdict when the run ended'),
  p99Ms: z.number('A number of ms').min(1, 'At least 1 ms').nullable().default(null).describe('99 of 100 arrive within so long'),
  recoveredS: z
    .number('A number of seconds')
    .min(0.1, 'At least 0.1 s')
    .nullable()
    .default(null)
    .describe('So long after each fault all that waited is gone and the witness is back'),
})
export type ProofLimits = z.infer<typeof ProofLimits>

/** A timed test of publications that are live. */
export const ProofPlan = z
  .object({
    name: Name,
    publicationIds: z.array(Id).min(1, 'Which publications?').max(50, 'At most 50 publications'),
    seconds: z.number('A number of seconds').min(5, 'At least 5 s').max(86_400, 'At most a day'),
    messages: z
      .number('A number of messages')
      .int('A whole number')
      .min(1, 'At least 1')
      .max(10_000_000, 'At most 10,000,000')
      .optional()
      .describe('It is over too when so many were produced'),
    load: z.number('A number').min(1, 'At least 1').max(50, 'At most 50').default(1).describe('Simulated tags move so many times as fast'),
    settleS: z
      .number('A number of seconds')
      .min(1, 'At least 1 s')
      .max(900, 'At most 900 s')
      .default(60)
      .describe('So long the last messages may take to have their verdict'),
    faults: z.array(ProofFault).max(50, 'At most 50 faults').default([]),
    limits: ProofLimits.default(ProofLimits.parse({})),
  })
  .superRefine(({ seconds, faults }, ctx) => {
    for (const [i, f] of faults.entries())
      if (f.atS >= seconds) ctx.addIssue({ code: 'custom', path: ['faults', i, 'atS'], message: `The run is over after ${seconds} s` })
  })
export type ProofPlan = z.infer<typeof ProofPlan>

/** held: every limit was; broken: one was not; unproven: one could not be measured; stopped, failed: it did not come to its end. */
export const ProofOutcome = z.enum(['held', 'broken', 'unproven', 'stopped', 'failed'])
export type ProofOutcome = z.infer<typeof ProofOutcome>

export const ProofRun = z.object({
  id: Id,
  name: z.string(),
  by: z.string(),
  startedAt: z.number().describe('Epoch ms'),
  endedAt: z.number().nullable(),
  outcome: ProofOutcome.nullable().describe('Null: it runs'),
  why: z.string().describe('Why it did not come to its end; empty: it did'),
  sha256: z.string().describe('Of its report; empty: it has none'),
})
export type ProofRun = z.infer<typeof ProofRun>

/** How a run that goes on stands. */
export const ProofProgress = z.object({
  phase: z.enum(['preparing', 'running', 'settling', 'reporting', 'over']),
  seconds: z.number().describe('Since it began to run'),
  of: z.number(),
  produced: z.number().int(),
  judged: z.number().int().describe('Of these, how many have their verdict'),
  faults: z.array(
    z.object({ words: z.string(), state: z.enum(['ahead', 'on', 'recovering', 'recovered', 'never']), recoveredS: z.number().nullable() }),
  ),
})
export type ProofProgress = z.infer<typeof ProofProgress>

const counts = z.object({
  produced: z.number().int(),
  confirmed: z.number().int(),
  late: z.number().int(),
  disordered: z.number().int(),
  doubled: z.number().int(),
  altered: z.number().int(),
  missing: z.number().int(),
  dropped: z.number().int(),
  rejected: z.number().int(),
  unknown: z.number().int(),
  waiting: z.number().int().describe('Without a verdict when the run ended'),
})
export type ProofCounts = z.infer<typeof counts>

const latency = z.object({ p50: z.number(), p95: z.number(), p99: z.number(), max: z.number(), count: z.number().int() })
export type ProofLatency = z.infer<typeof latency>

/** What came of one limit. */
export const LimitResult = z.object({
  limit: z.string(),
  of: z.number(),
  measured: z.number().nullable().describe('Null: it could not be'),
  outcome: z.enum(['held', 'broken', 'unproven']),
  words: z.string(),
})
export type LimitResult = z.infer<typeof LimitResult>

/** What a run ends in. Times are ISO 8601, durations ms unless their names say otherwise. */
export const ProofReport = z.object({
  format: z.literal('embrik proof report 1'),
  id: Id,
  name: z.string(),
  by: z.string(),
  outcome: ProofOutcome,
  why: z.string(),
  startedAt: z.string(),
  endedAt: z.string(),
  seconds: z.number().describe('For which messages were counted'),
  plan: ProofPlan,
  limits: z.array(LimitResult),
  counts,
  latency: latency.nullable().describe('Device time to witness; null: nothing arrived'),
  curve: z.array(z.object({ atS: z.number(), p50: z.number(), p99: z.number(), max: z.number(), count: z.number().int() })),
  deliveries: z.array(
    z.object({
      publication: z.string(),
      version: z.number().int(),
      planSha256: z.string(),
      destination: z.string(),
      witnessed: z.boolean(),
      first: z.number().int().describe('Number of the first message of the run'),
      last: z.number().int(),
      counts,
      latency: latency.nullable(),
    }),
  ),
  faults: z.array(
    z.object({
      destination: z.string(),
      words: z.string(),
      atS: z.number(),
      forS: z.number(),
      connections: z.number().int().describe('That stood between when it began'),
      begun: z.boolean().default(true).describe('False: the run had ended before'),
      recoveredS: z.number().nullable().describe('After it ended; null: not within the run'),
    }),
  ),
  load: z.object({ multiple: z.number(), tags: z.number().int().describe('Simulated tags that it moved') }),
  destinations: z.array(
    z.object({
      name: z.string(),
      kind: z.string(),
      version: z.number().int(),
      address: z.string(),
      certificates: z.array(z.object({ use: z.string(), sha256: z.string() })),
    }),
  ),
  clocks: z.array(PeerClock),
  environment: z.object({
    installation: z.string(),
    node: z.string(),
    embrik: z.string(),
    runtime: z.string(),
    system: z.string(),
    processors: z.number().int(),
    memoryMb: z.number().int(),
  }),
})
export type ProofReport = z.infer<typeof ProofReport>

/** The key with which reports of this installation are signed: its public half. */
export const PlantKey = z.object({
  publicKey: z.string().describe('PEM, SPKI (RFC 5280 4.1.2.7)'),
  fingerprint: z.string().describe('SHA-256 of its DER form'),
  madeAt: z.number(),
})
export type PlantKey = z.infer<typeof PlantKey>
