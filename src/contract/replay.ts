import { z } from 'zod'
import { PublicationDraft } from './publication'

/** Messages that are looked at for one answer, and that an edited publication may make of them. */
export const REPLAY_MOST = 50_000
export const EDITED_MOST = 200_000

export const ReplayQuery = z.object({
  draft: PublicationDraft,
  from: z.number().describe('Epoch ms'),
  to: z.number().describe('Epoch ms'),
})
export type ReplayQuery = z.infer<typeof ReplayQuery>

const Sum = z.object({ messages: z.number().int(), octets: z.number().describe('Of payloads') })

/** One message that differs. */
export const ReplayDifference = z.object({
  kind: z.enum(['changed', 'held', 'added']).describe('Held: it was sent, and would not be; added: the other way round'),
  at: z.number().describe('When it was produced, epoch ms'),
  topic: z.string(),
  octets: z.object({ sent: z.number().int().nullable(), edited: z.number().int().nullable() }),
  members: z
    .array(z.object({ member: z.string(), sent: z.string().nullable(), edited: z.string().nullable() }))
    .describe('Those that differ, the first ones'),
  memberCount: z.number().int(),
})
export type ReplayDifference = z.infer<typeof ReplayDifference>

/** What was sent in a span of time, beside what the edited publication would have sent of the same values. */
export const Replay = z.object({
  from: z.number(),
  to: z.number().describe('Earlier than asked where there was too much of it'),
  cut: z.boolean(),
  sent: Sum,
  edited: Sum,
  same: z.number().int(),
  changed: z.number().int(),
  held: z.number().int(),
  added: z.number().int(),
  topics: z.array(z.object({ topic: z.string(), sent: Sum, edited: Sum })).describe('Those that differ most, the first ones'),
  topicCount: z.number().int(),
  differences: z.array(ReplayDifference).describe('The first ones'),
  notes: z.array(z.string()).describe('What limits what can be said'),
})
export type Replay = z.infer<typeof Replay>
