import { z } from 'zod'

/** One act of somebody on something: what was before and what is then, without anything secret. */
export const AuditRow = z.object({
  id: z.number().int(),
  at: z.number().describe('Epoch ms'),
  who: z.string(),
  via: z.enum(['session', 'key', 'sign-on', 'nobody']),
  address: z.string().nullable(),
  act: z.string().describe('As the endpoint is called, such as changeSource'),
  subjectKind: z.string(),
  subjectId: z.string().nullable(),
  subject: z.string(),
  before: z.unknown(),
  after: z.unknown(),
})
export type AuditRow = z.infer<typeof AuditRow>

export const AuditQuery = z.object({
  limit: z.coerce.number().int().min(1).max(1000).default(200),
  before: z.coerce.number().int().optional().describe('Only rows with a lower id: the next page'),
  text: z.string().max(200).default('').describe('Only rows in which who, act or subject have this'),
})
export type AuditQuery = z.infer<typeof AuditQuery>
