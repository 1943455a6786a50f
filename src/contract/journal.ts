import { z } from 'zod'
import { Id } from './id'
import { Verdict } from './live'
import { ShownPayload } from './publication'
import { WaitingMessage } from './waiting'

const at = z.number().nullable()

/** When a message came past each hop, epoch ms. */
export const HopsShown = z.object({
  sentAt: at.describe('Handed to the wire for the first time'),
  answeredAt: at.describe('The last answer of the destination'),
  seenAt: at.describe('The witness saw the first copy of it'),
  sendings: z.number().int().describe('How often it was handed to the wire'),
})
export type HopsShown = z.infer<typeof HopsShown>

/** A message that was stored: it waits, or has its fate. */
export const JournalMessage = WaitingMessage.extend({
  lane: Id.describe('The connection on which it goes out: of the destination, or of a node there'),
  segment: z.number().int().describe('The row of the outbox in which it stands'),
  index: z.number().int().describe('Its place among the messages of that row'),
  deviceAt: z.number().describe('When its newest value was read, epoch ms'),
  storedAt: z.number().describe('Epoch ms, by the clock of the database'),
  hops: HopsShown.nullable().describe('Null: it waits, or nobody kept them'),
  verdict: z
    .union([Verdict, z.literal('waiting')])
    .nullable()
    .describe('Null: its publication is no more'),
})
export type JournalMessage = z.infer<typeof JournalMessage>

/** So many are on a page. */
export const JOURNAL_PAGE = 100

/** Which of them. */
export const WhichJournal = z.object({
  publicationId: Id.optional().describe('Only those of one publication'),
  text: z.string().max(200).optional().describe('Only those whose topic contains it'),
  until: z.coerce.number().optional().describe('Only those stored until then, epoch ms'),
  before: z.string().max(10_000).optional().describe('`next` of the page before'),
  payloads: z.enum(['1']).optional().describe('With the octets of each'),
})
export type WhichJournal = z.infer<typeof WhichJournal>

/** A page of what a destination was given, the newest first. */
export const JournalPage = z.object({
  messages: z.array(JournalMessage.extend({ payload: z.string().optional().describe('Base64') })),
  next: z.string().nullable().describe('Where the next page begins; null: that was all'),
  lookedTo: at.describe('All that was stored since then has been looked through, epoch ms'),
  bytes: z.number().describe('That the journal holds'),
  capBytes: z.number(),
  hours: z.number(),
})
export type JournalPage = z.infer<typeof JournalPage>

/** From what the members of a message were made, back to the device: as its version froze it, with tags as they are now. */
export const MessageOrigins = z.object({
  equipment: z.array(
    z.object({
      id: Id,
      name: z.string(),
      members: z.array(
        z.object({
          key: z.string(),
          label: z.string(),
          unit: z.string(),
          how: z.enum(['tag', 'expression', 'constant', 'step']),
          text: z.string().describe('Of the expression; the constant'),
          from: z.array(
            z.object({
              tagId: z.string().nullable().describe('Null: a record, or a tag that is no more'),
              tag: z.string(),
              sourceId: z.string().nullable(),
              source: z.string(),
              address: z.string().describe('Where its device has it'),
              scaled: z.string().describe('From raw to scaled; empty: as it is read'),
            }),
          ),
        }),
      ),
    }),
  ),
})
export type MessageOrigins = z.infer<typeof MessageOrigins>

/** No moment is later, epoch ms: the end of the year 9998. */
export const LATEST = Date.UTC(9999, 0)

/** So long after a moment it is looked for the message that carried a value, ms. */
export const FOLLOWED_MS = 3_600_000

/** What became of a tag's value in one publication that is live. */
export const FollowedTag = z.object({
  publicationId: Id,
  publication: z.string(),
  destinationId: Id,
  destination: z.string(),
  members: z.array(z.string()).describe('Labels of the members that it fills there'),
  message: JournalMessage.nullable().describe(
    'The first that carried it and was made at that moment or later; null: none within an hour, or it is not stored yet',
  ),
  shared: z.boolean().describe('Messages without it go to the same place: this may be one of them'),
  looked: z.boolean().describe('False: there was too much to look through to its end'),
})
export type FollowedTag = z.infer<typeof FollowedTag>

/** One of them whole. */
export const JournalWhole = JournalMessage.extend({
  message: ShownPayload,
  octets64: z.string().describe('As they went out, base64; the first 64,000'),
  version: z.number().int().nullable().describe('Which version of its publication was live when it was produced'),
})
export type JournalWhole = z.infer<typeof JournalWhole>
