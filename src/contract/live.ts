import { z } from 'zod'
import { ShownPayload } from './publication'
import { WireScalar } from './value'

/** How a source, publication, destination or witness is doing. */
export const Condition = z.object({
  state: z.enum(['off', 'starting', 'running', 'trouble']),
  reason: z.string().describe('In words, for people'),
  hint: z.string().default(''),
  since: z.number().describe('Epoch ms'),
  rate: z.number().default(0).describe('Values or messages a second, over the last seconds'),
  last: z.number().nullable().default(null).describe('Epoch ms of the last value or message'),
  roundTripMs: z.number().nullable().optional().describe('How long a source takes to answer, smoothed'),
  doubt: z.string().optional().describe('It runs, but not all of it does well: what does not'),
  lastError: z.object({ at: z.number(), message: z.string() }).nullable().optional().describe('The last trouble of a source, over or not'),
})
export type Condition = z.infer<typeof Condition>

/** A tag's present value on the wire: [handle, value, OPC UA status code, device time, received time], times in epoch ms. */
export const LiveValue = z.tuple([z.number().int(), WireScalar, z.number().int(), z.number(), z.number()])
export type LiveValue = z.infer<typeof LiveValue>

/** Figures of the course: what each station shows, and the rate over each joint. */
export const CourseFigures = z.object({
  sourcesUp: z.number(),
  sourcesDown: z.number(),
  tags: z.number(),
  tagsBad: z.number(),
  valuesPerS: z.number(),
  bound: z.number().describe('Members that have a binding'),
  members: z.number(),
  equipment: z.number(),
  publicationsLive: z.number(),
  publicationsTrouble: z.number(),
  producedPerS: z.number(),
  destinationsUp: z.number(),
  destinationsDown: z.number(),
  ackedPerS: z.number(),
  confirmedPerS: z.number(),
  confirmedShare: z.number().nullable().describe('0 to 1: arrived unaltered, of those whose fate is known'),
  missing: z.number(),
})
export type CourseFigures = z.infer<typeof CourseFigures>

/** What became of a message; each ends in exactly one, the worst that holds. */
export const Verdict = z.enum(['confirmed', 'late', 'disordered', 'doubled', 'altered', 'missing', 'dropped', 'rejected', 'unknown'])
export type Verdict = z.infer<typeof Verdict>

const verdictCounts = {
  confirmed: z.number().describe('Arrived once, unaltered, in order and in time'),
  late: z.number().describe('Arrived after the limit'),
  disordered: z.number().describe('Arrived after a later message of its topic'),
  doubled: z.number().describe('Arrived more than once'),
  altered: z.number().describe('Arrived with another payload'),
  missing: z.number().describe('Acknowledged, and did not arrive within the limit'),
  dropped: z.number().describe('Pushed out of a full outbox'),
  rejected: z.number().describe('Refused by the destination'),
  unknown: z.number().describe('The witness was away and nobody can say, or nobody can say yet'),
}

/** Counts of one delivery (publication and destination). Verdicts and `waiting` add up to `stored`. */
export const Counts = z.object({
  produced: z.number(),
  stored: z.number(),
  sent: z.number(),
  acknowledged: z.number(),
  arrived: z.number().describe('Seen by the witness, well or not'),
  waiting: z.number().describe('No verdict yet: it is too early'),
  ...verdictCounts,
  foreign: z.number().describe('Came on the topics of this publication and was never sent by it'),
})
export type Counts = z.infer<typeof Counts>

export const Latency = z.object({ p50: z.number(), p95: z.number(), p99: z.number(), count: z.number() })
export type Latency = z.infer<typeof Latency>

/** A line of the ledger: one publication and destination. */
export const LedgerLine = z.object({
  delivery: z.number().int(),
  publicationId: z.string(),
  publication: z.string(),
  destinationId: z.string(),
  destination: z.string(),
  counts: Counts,
  latency: Latency.nullable().describe('Device time to witness, ms, over the last hour'),
  witness: z.enum(['none', 'away', 'there']).describe('Whether somebody reads the far end, and is there'),
  acknowledges: z.boolean().default(true).describe('Whether the destination says that it has a message; else sent is its last word'),
})
export type LedgerLine = z.infer<typeof LedgerLine>

/** One brick of the wall: what became of the messages made in its slice of time. `start` in epoch ms. */
export const Brick = z.object({ start: z.number(), produced: z.number(), ...verdictCounts, foreign: z.number() })
export type Brick = z.infer<typeof Brick>

export const Wall = z.object({
  from: z.number(),
  to: z.number(),
  sliceMs: z.number(),
  rows: z.array(z.object({ delivery: z.number(), bricks: z.array(Brick) })),
})
export type Wall = z.infer<typeof Wall>

/** Messages of a while that did not arrive as they should, one by one, and how long the others took. */
export const BrickWhole = z.object({
  odd: z.array(
    z.object({
      verdict: Verdict,
      count: z.number().int(),
      runs: z.array(z.tuple([z.number().int(), z.number().int()])).describe('Numbers from the first to the last, the earliest ones'),
    }),
  ),
  latency: z.array(z.object({ ms: z.number(), count: z.number() })).describe('Device time to witness, in the whole minutes that it touches'),
})
export type BrickWhole = z.infer<typeof BrickWhole>

/** A message as the engine last built it, with its way so far (epoch ms, null when not there yet). */
export const LastMessage = z.object({
  publicationId: z.string(),
  seq: z.number(),
  topic: z.string(),
  message: ShownPayload,
  deviceAt: z.number(),
  producedAt: z.number(),
  storedAt: z.number().nullable(),
  sentAt: z.number().nullable(),
  acknowledgedAt: z.number().nullable(),
  confirmedAt: z.number().nullable(),
})
export type LastMessage = z.infer<typeof LastMessage>

export const EventRow = z.object({
  id: z.number(),
  at: z.number(),
  severity: z.enum(['good', 'note', 'warning', 'trouble']),
  where: z.string(),
  subjectId: z.string().nullable(),
  subject: z.string(),
  code: z.string(),
  message: z.string(),
  hint: z.string(),
})
export type EventRow = z.infer<typeof EventRow>

/** Events by slices of time, to stand over a wall; and the versions that went live. `start` in epoch ms. */
export const EventLine = z.object({
  slices: z.array(
    z.object({
      start: z.number(),
      severity: EventRow.shape.severity.describe('The worst of them'),
      count: z.number().int(),
      told: z.array(z.string()).describe('The last few of the worst ones'),
    }),
  ),
  versions: z.array(z.object({ start: z.number(), publicationId: z.string(), number: z.number().int(), by: z.string() })),
})
export type EventLine = z.infer<typeof EventLine>

/** What a browser watches: everything else stays in the engine. */
export const Watch = z.object({
  tags: z.string().default('').describe('Handles, as 1-40,52'),
  spark: z.boolean().default(false),
  parts: z.string().default('course').describe('Any of course,sources,publications,destinations,ledger,messages'),
})

/** Frames of the live stream, one server-sent event each; only what changed since the last one. */
export interface LiveFrames {
  hello: { at: number; engine: string }
  /** Every two seconds: the line lives, and this is the server's time. */
  beat: { at: number }
  course: CourseFigures
  values: LiveValue[]
  /** Handle to the last ten minutes, one number every five seconds, null where there was none. */
  sparks: Record<string, (number | null)[]>
  sources: Record<string, Condition>
  publications: Record<string, Condition>
  destinations: Record<string, { sender: Condition; witness: Condition | null; waiting: number; bytes: number; capBytes: number }>
  ledger: LedgerLine[]
  message: LastMessage
  down: { message: string; hint: string }
}
