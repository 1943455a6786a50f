import { z } from 'zod'

/** A message that a destination refused for good, or on which the link was lost again and again: kept with the reason. */
export const Aside = z.object({
  id: z.number().int(),
  publicationId: z.string().nullable().describe('Null: the publication is no more'),
  publication: z.string().nullable(),
  seq: z.number(),
  at: z.number().describe('When it went aside, epoch ms'),
  topic: z.string(),
  assurance: z
    .enum(['sent', 'acknowledged', 'once'])
    .describe('sent: once, without an answer; acknowledged: until the destination has it; once: that, and passed on once'),
  payload: z.string().describe('Octets as base64, the first 4 KiB'),
  code: z.string(),
  message: z.string(),
  hint: z.string(),
})
export type Aside = z.infer<typeof Aside>

/** So many are listed, the newest first. */
export const ASIDES_LISTED = 200
