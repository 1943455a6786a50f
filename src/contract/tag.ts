import { z } from 'zod'
import { Id, Name } from './id'

export const DataType = z.enum(['boolean', 'integer', 'number', 'text', 'time'])
export type DataType = z.infer<typeof DataType>

/** How far a value must move from the last one sent before it counts as a change; 0 means every change. */
export const Deadband = z.object({
  kind: z.enum(['absolute', 'percent']),
  size: z.number().min(0, 'Not below 0'),
  low: z.number().optional().describe('Range for percent, in engineering units'),
  high: z.number().optional(),
})
export type Deadband = z.infer<typeof Deadband>

export const TagDraft = z.object({
  name: Name,
  sourceId: Id,
  address: z.string().min(1, 'Which node?').max(1000),
  dataType: DataType,
  unit: z.string().trim().max(24, 'At most 24 characters').default(''),
  description: z.string().trim().max(500).default(''),
  deadband: Deadband.nullable().default(null),
})
export type TagDraft = z.infer<typeof TagDraft>

export const Tag = TagDraft.extend({ id: Id, handle: z.number().int(), version: z.number().int() })
export type Tag = z.infer<typeof Tag>

export const TagChange = TagDraft.pick({ name: true, unit: true, description: true, deadband: true, dataType: true })
  .partial()
  .extend({ version: z.number().int().optional().describe('Refused when the stored one is newer') })
export type TagChange = z.infer<typeof TagChange>

export const TagsAdd = z.object({ tags: z.array(TagDraft).min(1, 'Choose at least one node').max(50_000) })
export const TagsDelete = z.object({ ids: z.array(Id).min(1).max(50_000) })

/** What uses a tag: shown before it is changed or removed. */
export const TagUse = z.object({
  equipment: z.array(z.object({ id: Id, name: z.string(), member: z.string() })),
  publications: z.array(z.object({ id: Id, name: z.string() })),
})
export type TagUse = z.infer<typeof TagUse>
