import { z } from 'zod'

/** One thing that a destination tells of what it did not take. */
export const OwnRefusal = z.object({
  at: z.string().nullable().describe('ISO 8601, UTC'),
  why: z.string(),
  place: z.string(),
})
export type OwnRefusal = z.infer<typeof OwnRefusal>

/** What the receiving side itself says of this sender; null is what it does not say. */
export const OwnView = z.object({
  askedAt: z.string(),
  connected: z.boolean().nullable(),
  lastAt: z.string().nullable().describe('When it took a message last, by its own clock'),
  taken: z.number().nullable(),
  rejected: z.number().nullable(),
  today: z.number().nullable().describe('What counts for its quota'),
  perDay: z.number().nullable().describe('Its quota'),
  refusals: z.array(OwnRefusal).describe('The newest first, at most 50'),
})
export type OwnView = z.infer<typeof OwnView>
