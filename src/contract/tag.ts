import { z } from 'zod'
import { Id, Name } from './id'
import { WireWhole } from './value'

export const DataType = z.enum(['boolean', 'integer', 'number', 'text', 'time'])
export type DataType = z.infer<typeof DataType>

/** How far a value must move from the last one sent before it counts as a change; 0 means every change. Percent is of the tag's range. */
export const Deadband = z.object({
  kind: z.enum(['absolute', 'percent']),
  size: z.number().min(0, 'Not below 0'),
})
export type Deadband = z.infer<typeof Deadband>

/** What values are expected, in engineering units. */
export const Range = z.object({ low: z.number(), high: z.number() }).refine((r) => r.low < r.high, 'Low must be below high')
export type Range = z.infer<typeof Range>

/** From raw counts to engineering units along a line through two points; with `clamp` not beyond them. */
export const Scaling = z
  .object({ rawLow: z.number(), rawHigh: z.number(), low: z.number(), high: z.number(), clamp: z.boolean().default(false) })
  .refine((s) => s.rawLow !== s.rawHigh, 'The two raw values must differ')
  .refine((s) => s.low !== s.high, 'The two scaled values must differ')
export type Scaling = z.infer<typeof Scaling>

/** How a tag's values are to be stored. */
export const HistorySettings = z
  .object({
    deadband: Deadband.nullable().default(null),
    minMs: z.number().int().min(0).max(86_400_000).default(0).describe('Not more often than this, ms; 0: as often as it changes'),
    maxMs: z.number().int().min(0).max(604_800_000).default(0).describe('At least this often even without a change, ms; 0: only changes'),
  })
  .refine((h) => h.maxMs === 0 || h.minMs <= h.maxMs, 'The longest interval must not be shorter than the shortest')
export type HistorySettings = z.infer<typeof HistorySettings>

/** How a tag is drawn: a fixed range or, with null, that of its values; straight lines between values or steps. */
export const ChartSettings = z.object({
  low: z.number().nullable().default(null),
  high: z.number().nullable().default(null),
  line: z.enum(['straight', 'steps']).default('straight'),
})
export type ChartSettings = z.infer<typeof ChartSettings>

const SampleMs = z.number().int().min(50, 'At least 50 ms').max(3_600_000, 'At most an hour')
const Value = z.union([z.number(), z.string().max(4000), z.boolean(), WireWhole])

/** A path: folders and a name, parted by slashes. */
export const TagName = Name.refine((s) => !s.split('/').some((part) => part.trim() === ''), 'No empty part between slashes')

/** What a tag has but for its source, without defaults. */
const properties = {
  name: TagName,
  address: z.string().min(1, 'Which node?').max(1000, 'At most 1000 characters'),
  dataType: DataType,
  unit: z.string().trim().max(24, 'At most 24 characters'),
  description: z.string().trim().max(500, 'At most 500 characters'),
  format: z.string().trim().max(40, 'At most 40 characters').describe('How values are shown: a number pattern (UTS #35), or no|yes'),
  deadband: Deadband.nullable(),
  range: Range.nullable(),
  scaling: Scaling.nullable(),
  access: z.enum(['read', 'read-write']).describe('Whether values may be written to the device'),
  sampleMs: SampleMs.nullable().describe("A rate of its own, ms; null: its group's, or the source's"),
  groupId: Id.nullable().describe('The sampling group it belongs to'),
  initial: Value.nullable().describe('Stands until the first value comes'),
  hold: z
    .enum(['nothing', 'engine', 'machine'])
    .describe('Whether the last value is held when the engine starts again: not at all, unless the machine did too, or always'),
  history: HistorySettings.nullable(),
  chart: ChartSettings.nullable(),
  signal: z.string().trim().max(300, 'At most 300 characters').describe('What stands in for the device while it is simulated'),
  simulated: z.boolean().describe('On simulation: the signal instead of the device'),
}

export const TagDraft = z.object({
  ...properties,
  sourceId: Id,
  unit: properties.unit.default(''),
  description: properties.description.default(''),
  format: properties.format.default(''),
  deadband: properties.deadband.default(null),
  range: properties.range.default(null),
  scaling: properties.scaling.default(null),
  access: properties.access.default('read'),
  sampleMs: properties.sampleMs.default(null),
  groupId: properties.groupId.default(null),
  initial: properties.initial.default(null),
  hold: properties.hold.default('nothing'),
  history: properties.history.default(null),
  chart: properties.chart.default(null),
  signal: properties.signal.default(''),
  simulated: properties.simulated.default(false),
})
export type TagDraft = z.infer<typeof TagDraft>
/** As callers write it: what has a default may be left out. */
export type TagInput = z.input<typeof TagDraft>

export const Tag = TagDraft.extend({ id: Id, handle: z.number().int(), version: z.number().int() })
export type Tag = z.infer<typeof Tag>

const version = z.number().int().optional().describe('Refused when the stored one is newer')

/** Only what is given changes; nothing is filled in with defaults. */
export const TagChange = z.object(properties).partial().extend({ version })
export type TagChange = z.infer<typeof TagChange>

/** At most so many rows go into one edit. */
export const EDIT_MAX = 120_000

/** Many tags added, changed and removed together: all or none. */
export const TagEdit = z.object({
  add: z
    .array(TagDraft.extend({ id: Id.optional().describe('Only to bring back one that was removed') }))
    .max(EDIT_MAX)
    .default([]),
  change: z
    .array(TagChange.extend({ id: Id, sourceId: Id.optional() }))
    .max(EDIT_MAX)
    .default([]),
  remove: z
    .array(z.object({ id: Id, version }))
    .max(EDIT_MAX)
    .default([]),
})
export type TagEdit = z.infer<typeof TagEdit>
export type TagEditInput = z.input<typeof TagEdit>

/** What came of an edit, and the edit that takes it back. */
export const TagEdited = z.object({ tags: z.array(Tag).describe('Added and changed'), removed: z.array(Id), undo: TagEdit })
export type TagEdited = z.infer<typeof TagEdited>

/** A line of a running edit: how far it is, or at last what came of it, or why it was refused. */
export const TagEditLine = z.object({
  done: z.number().int(),
  total: z.number().int(),
  result: TagEdited.optional(),
  failure: z.object({ message: z.string(), hint: z.string(), fields: z.record(z.string(), z.string()).optional() }).optional(),
})
export type TagEditLine = z.infer<typeof TagEditLine>

/** What an import would do or has done. Faults and changes are told for the first thousand rows that have some. */
export const TagImported = z.object({
  encoding: z.string(),
  separator: z.string(),
  decimal: z.string(),
  counts: z.object({ add: z.number().int(), change: z.number().int(), same: z.number().int(), faulty: z.number().int() }),
  ignored: z.array(z.string()).describe('Headings that are no column'),
  rows: z.array(
    z.object({
      line: z.number().int(),
      state: z.enum(['change', 'faulty']),
      name: z.string(),
      changes: z.array(z.object({ column: z.string(), old: z.string(), new: z.string() })),
      faults: z.array(z.object({ column: z.string(), reason: z.string(), given: z.string() })),
    }),
  ),
  applied: z.boolean(),
})
export type TagImported = z.infer<typeof TagImported>

export const TagsAdd = z.object({ tags: z.array(TagDraft).min(1, 'Choose at least one node').max(50_000) })
export const TagsDelete = z.object({ ids: z.array(Id).min(1).max(50_000) })

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

/** A rate with a name: tags that belong to it are read at it. */
export const GroupDraft = z.object({ name: Name, sampleMs: SampleMs })
export type GroupDraft = z.infer<typeof GroupDraft>
export const Group = GroupDraft.extend({ id: Id, tags: z.number().int().describe('How many belong to it') })
export type Group = z.infer<typeof Group>

/** Tags of a folder as texts by column, with parameters in braces. */
export const TagPatternDraft = z.object({
  name: Name,
  parameters: z.array(z.string().min(1).max(60)).max(40),
  rows: z
    .array(z.record(z.string(), z.string().max(4000)))
    .min(1, 'A pattern needs tags')
    .max(5000),
})
export type TagPatternDraft = z.infer<typeof TagPatternDraft>
export const TagPattern = TagPatternDraft.extend({ id: Id })
export type TagPattern = z.infer<typeof TagPattern>

/** New names for tags, to see what they change outside. */
export const TagNames = z.object({
  names: z
    .array(z.object({ id: Id, name: TagName }))
    .min(1)
    .max(EDIT_MAX),
})

/** What receivers see of tags whose names change: before and after. */
export const Outside = z.object({
  carried: z.number().int().describe('How many of the tags are sent at all'),
  changed: z.number().int().describe('How many places look different afterwards'),
  places: z
    .array(
      z.object({
        tag: z.string(),
        publication: z.string(),
        live: z.boolean(),
        topic: z.string(),
        topicAfter: z.string(),
        key: z.string().describe('Name in the payload'),
        keyAfter: z.string(),
      }),
    )
    .describe('At most 500, changed ones first'),
})
export type Outside = z.infer<typeof Outside>

/** Something that receivers would see differently. */
export const Difference = z.object({
  publication: z.string(),
  live: z.boolean(),
  equipment: z.string(),
  what: z.enum(['topic', 'name', 'type', 'unit', 'value', 'gone', 'new']),
  before: z.string(),
  after: z.string(),
})
export type Difference = z.infer<typeof Difference>

/** What a change of one tag would change outside. */
export const EditOutside = z.object({
  publications: z.array(z.object({ name: z.string(), live: z.boolean() })).describe('Those that carry it'),
  differences: z.array(Difference).describe('At most 100'),
})
export type EditOutside = z.infer<typeof EditOutside>
