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
  octets: z.number().int().nullable().describe('Of its payload; null: not known'),
  again: z.object({ seq: z.number(), at: z.number(), by: z.string() }).nullable().describe('As which message it was sent again, and by whom'),
})
export type Aside = z.infer<typeof Aside>

/** One of them whole. */
export const AsideWhole = Aside.extend({
  kept: z.number().int().describe('Octets of its payload that are kept'),
  contentType: z.string(),
  key: z.string(),
  headers: z.array(z.tuple([z.string(), z.string()])),
})
export type AsideWhole = z.infer<typeof AsideWhole>

/** A message that is sent again, mended or as it was. */
export const SendAgain = z.object({
  topic: z
    .string()
    .min(1, 'Which topic?')
    .max(65_535)
    .refine((t) => !t.includes('\0'), 'It holds a NUL: take it out')
    .optional()
    .describe('Absent: its own'),
  payload: z.base64('Base64').max(700_000, 'At most 512 kB').optional().describe('Octets as base64; absent: its own'),
})
export type SendAgain = z.infer<typeof SendAgain>

/** So many are listed, the newest first. */
export const ASIDES_LISTED = 200
