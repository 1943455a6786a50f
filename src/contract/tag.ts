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

/** What values are expected, in engineering units. */
export const Range = z.object({ low: z.number(), high: z.number() }).refine((r) => r.low < r.high, 'Low must be below high')
export type Range = z.infer<typeof Range>

const SampleMs = z.number().int().min(50, 'At least 50 ms').max(3_600_000, 'At most an hour')

export const TagDraft = z.object({
  name: Name,
  sourceId: Id,
  address: z.string().min(1, 'Which node?').max(1000),
  dataType: DataType,
  unit: z.string().trim().max(24, 'At most 24 characters').default(''),
  description: z.string().trim().max(500).default(''),
  deadband: Deadband.nullable().default(null),
  range: Range.nullable().default(null),
  access: z.enum(['read', 'read-write']).default('read').describe('Whether values may be written to the device'),
  sampleMs: SampleMs.nullable().default(null).describe("A rate of its own, ms; null: the source's"),
  signal: z.string().trim().max(300).default('').describe('What stands in for the device while it is simulated'),
  simulated: z.boolean().default(false).describe('On simulation: the signal instead of the device'),
})
export type TagDraft = z.infer<typeof TagDraft>
/** As callers write it: what has a default may be left out. */
export type TagInput = z.input<typeof TagDraft>

export const Tag = TagDraft.extend({ id: Id, handle: z.number().int(), version: z.number().int() })
export type Tag = z.infer<typeof Tag>

/** Only what is given changes; nothing is filled in with defaults. */
export const TagChange = z
  .object({
    name: Name,
    address: z.string().min(1, 'Which node?').max(1000),
    dataType: DataType,
    unit: z.string().trim().max(24, 'At most 24 characters'),
    description: z.string().trim().max(500),
    deadband: Deadband.nullable(),
    range: Range.nullable(),
    access: z.enum(['read', 'read-write']),
    sampleMs: SampleMs.nullable(),
    signal: z.string().trim().max(300),
    simulated: z.boolean(),
  })
  .partial()
  .extend({ version: z.number().int().optional().describe('Refused when the stored one is newer') })
export type TagChange = z.infer<typeof TagChange>

export const TagsAdd = z.object({ tags: z.array(TagDraft).min(1, 'Choose at least one node').max(50_000) })
export const TagsDelete = z.object({ ids: z.array(Id).min(1).max(50_000) })

const Value = z.union([z.number(), z.string().max(4000), z.boolean()])
export const TagWrite = z.object({ value: Value })
export const TagWritten = z.object({ readBack: Value.nullable().describe('What the device holds now') })

/** What there is to say of a tag beside its status; all empty when nothing has been. */
export const TagNote = z.object({
  at: z.number().nullable().describe('Epoch ms'),
  text: z.string(),
  code: z.string().describe("The protocol's own code"),
  bytes: z.string().nullable().describe('Base64: the payload that could not be read, cut at 16 KB'),
})
export type TagNote = z.infer<typeof TagNote>

/** What uses a tag: shown before it is changed or removed. */
export const TagUse = z.object({
  equipment: z.array(z.object({ id: Id, name: z.string(), member: z.string() })),
  publications: z.array(z.object({ id: Id, name: z.string() })),
})
export type TagUse = z.infer<typeof TagUse>
