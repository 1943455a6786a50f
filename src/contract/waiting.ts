import { z } from 'zod'
import { Id } from './id'
import { ShownPayload } from './publication'

/** A message that waits in an outbox. */
export const WaitingMessage = z.object({
  delivery: z.number().int(),
  seq: z.number(),
  publicationId: Id.nullable().describe('Null: the publication is no more'),
  topic: z.string(),
  octets: z.number().int().describe('Of its payload'),
  producedAt: z.number().describe('Epoch ms'),
})
export type WaitingMessage = z.infer<typeof WaitingMessage>

/** What waits in the outboxes of a destination, and of the nodes that speak there. */
export const WaitingMessages = z.object({
  waiting: z.number().int(),
  bytes: z.number().describe('On disk'),
  capBytes: z.number(),
  messages: z.array(WaitingMessage).describe('A page of them, the oldest first'),
})
export type WaitingMessages = z.infer<typeof WaitingMessages>

/** So many are on a page. */
export const WAITING_PAGE = 100

/** One of them whole. */
export const WaitingWhole = WaitingMessage.extend({ message: ShownPayload })
export type WaitingWhole = z.infer<typeof WaitingWhole>

/** Which of them: one, those of a publication, or all. */
export const WhichWaiting = z.object({
  publicationId: Id.optional(),
  message: z.object({ delivery: z.coerce.number().int(), seq: z.coerce.number().int() }).optional(),
})
export type WhichWaiting = z.infer<typeof WhichWaiting>
