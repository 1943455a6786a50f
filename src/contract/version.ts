import { z } from 'zod'

/** What a go-live froze, without what is in it. */
export const Version = z.object({
  number: z.number().int(),
  madeAt: z.string().describe('ISO 8601, UTC'),
  madeBy: z.string(),
  backTo: z.number().int().nullable().describe('The version that it is again; null: it was frozen anew'),
  live: z.boolean(),
  note: z.string(),
  accepted: z.array(z.string()).describe('Warnings that were lived with'),
  equipment: z.number().int(),
  messages: z.number().int(),
})
export type Version = z.infer<typeof Version>

/** One thing in which two versions differ. */
export const VersionDifference = z.object({
  what: z.string().describe('The setting, by its names from the top; or the equipment'),
  kind: z.enum(['setting', 'gone', 'new', 'topic', 'name', 'type', 'unit', 'value']),
  before: z.string(),
  after: z.string(),
})
export type VersionDifference = z.infer<typeof VersionDifference>

export const VersionDifferences = z.object({
  differences: z.array(VersionDifference),
  count: z.number().int().describe('How many there are; the first 200 are told'),
})
export type VersionDifferences = z.infer<typeof VersionDifferences>
