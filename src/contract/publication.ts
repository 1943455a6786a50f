import { z } from 'zod'
import { Address } from './address'
import { TopicRule } from './addresses/text'
import { Level } from './equipment'
import { Fill, FillScalar } from './fill'
import { Id, Name } from './id'
import { PlanLookup } from './row-place'
import { PlanRows, RowPick } from './rows'
import { ShapeSettings } from './shape'
import { LookupTable, ScriptGives, Step, WindowBy } from './step'
import { DataType, Range } from './tag'
import { Pace, Trigger } from './trigger'
import { WireScalar } from './value'

/** Equipment by what it is: all that is given has to be so. Only equipment with a class goes out. */
export const EquipmentRule = z.object({
  classId: Id.optional().describe('Of this class, or of one that extends it'),
  underId: Id.optional().describe('In this branch'),
  fact: z
    .object({ name: z.string().trim().min(1, 'Which fact?').max(100), value: z.string().trim().max(500).optional() })
    .optional()
    .describe('With this fact, or with this value of it'),
  joins: z
    .boolean()
    .optional()
    .describe('What comes to be so joins by itself, and what is so no more leaves: as a new version, unless there are edits'),
})
export type EquipmentRule = z.infer<typeof EquipmentRule>

/** Tags that go out without equipment: all that is given has to be so. Each folder of them is a message. */
export const TagPick = z.object({
  folder: z.string().trim().max(500).default('').describe('Their names begin with this and a slash; empty: any'),
  text: z.string().trim().max(200).default('').describe('This stands in their names, in large letters or small; empty: any'),
})
export type TagPick = z.infer<typeof TagPick>

export const PublicationDraft = z.object({
  name: Name,
  equipmentIds: z.array(Id).max(10_000).describe('At least one, unless tags or rows are given'),
  tags: TagPick.optional().describe('Tags without equipment, in the place of equipment'),
  rows: RowPick.optional().describe('Rows of a source, in the place of equipment: each is a message'),
  rule: EquipmentRule.optional().describe('By which equipment is chosen at each go-live, in the place of what is listed'),
  trigger: Trigger,
  pace: Pace.optional(),
  steps: z.array(Step).max(50, 'At most 50 steps').optional().describe('What is done to each message on its way, in this order'),
  shape: ShapeSettings,
  address: Address,
  steersOnly: z.boolean().default(false).describe('Members that steer the address stay out of the payload'),
  destinationId: Id,
  alsoOf: Id.optional().describe('It is a further clause of this publication: equipment, trigger, pace and steps are those of that one'),
  own: z
    .array(Step)
    .max(50, 'At most 50 steps')
    .optional()
    .describe('Steps of this clause alone, after those that all clauses of a publication have'),
  onlyClassId: Id.optional().describe('Of the equipment this clause is only for what is of this class, or of one that extends it'),
  off: z.boolean().optional().describe('A further clause that is not sent from the next go-live on'),
  ahead: z.boolean().optional().describe('It goes ahead of what waits for its destination: by a connection and an outbox of its own'),
})
export type PublicationDraft = z.infer<typeof PublicationDraft>

export const Publication = PublicationDraft.extend({
  id: Id,
  version: z.number().int(),
  state: z.enum(['draft', 'live', 'paused']),
  liveVersion: z.number().int().nullable().describe('Number of the frozen plan'),
  editedSinceLive: z.boolean(),
})
export type Publication = z.infer<typeof Publication>

export const PlanMember = z.object({
  key: z.string().describe('Its names from the top, parted by dots; places in lists are numbers'),
  dataType: DataType,
  unit: z.string(),
  fill: Fill,
  label: z.string().default(''),
  description: z.string().default(''),
  required: z.boolean().default(false),
  range: Range.nullable().default(null),
  allowed: z
    .array(z.union([z.number(), z.string()]))
    .nullable()
    .default(null),
  tag: z.string().default('').describe('Name of the tag that fills it, where it is one'),
})
export type PlanMember = z.infer<typeof PlanMember>

/** An equipment as a plan freezes it. */
export const PlanEquipment = z.object({
  id: Id,
  name: z.string().describe('Its alias where it has one'),
  level: Level,
  path: z.array(z.string()).describe('Names from the top, its own last'),
  className: z.string(),
  classVersion: z.number().int(),
  facts: z.record(z.string(), FillScalar),
  members: z.array(PlanMember),
})
export type PlanEquipment = z.infer<typeof PlanEquipment>

/** What shapes and addresses of some equipment can name. */
export const AsSent = z.object({
  example: PlanEquipment.nullable().describe('The first of them; null: there is none'),
  common: z.array(z.string()).describe('Keys of the members that each of them has'),
})
export type AsSent = z.infer<typeof AsSent>

/** What a message has to pass, and the place of the step that asks for it. */
export const PlanGate = z.discriminatedUnion('kind', [
  z.object({
    kind: z.literal('condition'),
    step: z.number().int(),
    when: Fill,
    wanted: z.boolean().describe('It passes when the condition gives this'),
    unknown: z.enum(['pass', 'drop']),
  }),
  z.object({ kind: z.literal('repeats'), step: z.number().int() }),
])
export type PlanGate = z.infer<typeof PlanGate>

/** A step that takes its time, or happens elsewhere: what comes to it, and what it does. What comes out is numbered through all equipment. */
export const PlanStage = z.object({
  step: z.number().int(),
  equipment: z.array(z.array(PlanMember)).describe('Members of each equipment when its turn comes'),
  gates: z.array(z.array(PlanGate)).describe('For each message, before it'),
  work: z.discriminatedUnion('kind', [
    z.object({
      kind: z.literal('window'),
      seconds: z.number(),
      messages: z.number().int().nullable().default(null),
      by: WindowBy,
      count: z.string().nullable(),
      key: z.string().optional(),
    }),
    z.object({ kind: z.literal('script'), code: z.string(), gives: z.array(ScriptGives) }),
  ]),
})
export type PlanStage = z.infer<typeof PlanStage>

/** A template with all filled in that is known before: text, or pieces of which some wait for the values of the message. */
export const Resolved = z.union([
  z.string(),
  z.array(
    z.union([
      z.string(),
      z.object({
        take: z.enum(['value', 'time']),
        /** Of the equipment of the message, its first. */
        member: z.number().int().optional(),
        part: z.enum(['year', 'month', 'day', 'hour', 'minute']).optional(),
        filters: z.array(z.object({ name: z.string(), args: z.array(z.string()) })),
        rule: TopicRule.nullable(),
      }),
    ]),
  ),
])
export type Resolved = z.infer<typeof Resolved>

/** One message that a plan sends again and again: about whom, and to which address. */
export const PlanMessage = z.object({
  equipment: z.array(z.number().int()).describe('Places in the plan'),
  members: z.array(z.number().int()).nullable().describe('Only these members of its equipment; null: all'),
  steering: z.array(z.number().int()).describe('Members of its first equipment whose values are in its address'),
  place: Resolved.describe('Topic, path or table'),
  key: Resolved,
  headers: z.array(z.tuple([z.string(), Resolved])),
  responseTopic: Resolved,
  schemaId: z.number().int().optional().describe('Number of its schema in the registry of its destination'),
  condition: z
    .object({ when: Fill, until: Fill.nullable() })
    .optional()
    .describe('Where its trigger is a condition: what has to hold, and what says that it is over'),
  gates: z.array(PlanGate).optional().describe('What it has to pass, after the last stage'),
})
export type PlanMessage = z.infer<typeof PlanMessage>

/** What a go-live freezes: everything resolved, so that a later edit cannot change what is being sent. */
export const Plan = z.object({
  publicationId: Id,
  name: z.string(),
  number: z.number().int(),
  delivery: z.number().int().describe('Number of the pair of publication and destination; part of message ids'),
  destinationId: Id,
  trigger: Trigger,
  pace: Pace.optional(),
  steps: z.array(Step).optional().describe('As they were chosen; what they do stands with the members, messages and stages'),
  tables: z.array(LookupTable).optional().describe('In which steps look something up'),
  lookups: z.array(PlanLookup).optional().describe('Sources in whose rows steps look something up'),
  stages: z.array(PlanStage).optional(),
  shape: ShapeSettings,
  address: Address.describe('As it was chosen; what each message makes of it stands with the messages'),
  ahead: z.boolean().optional().describe('It goes out on the connection of what goes ahead'),
  contentType: z.string(),
  reads: z.array(z.string()).describe('What a witness has to read to see all of it, in the words of its kind'),
  backTo: z.number().int().optional().describe('The version that this one is again'),
  equipment: z.array(PlanEquipment),
  messages: z.array(PlanMessage),
  feed: PlanRows.optional().describe('Where rows of a source go out: its one message is said of each of them'),
  speaking: z.array(z.number().int()).optional().describe('Where its trigger is an event of some values only: the handles of those'),
})
export type Plan = z.infer<typeof Plan>

/** What mends a finding with one press: a change of the draft, or the place where it is mended. */
export const Mend = z.object({
  label: z.string(),
  href: z.string().optional(),
  set: z.record(z.string(), z.unknown()).optional().describe('Fields of the draft with other values'),
})
export type Mend = z.infer<typeof Mend>

/** A finding of the checks before a go-live. */
export const Finding = z.object({
  severity: z.enum(['stops', 'warns']),
  section: z.enum(['what', 'when', 'steps', 'shape', 'address', 'through', 'safely']),
  message: z.string(),
  hint: z.string(),
  step: z.number().int().optional().describe('Place of the step that it is about'),
  mend: Mend.optional(),
  told: z.boolean().optional().describe('It only tells what the destination is like: nobody has to accept it'),
  passing: z
    .boolean()
    .optional()
    .describe('Of this moment, and perhaps otherwise at the next: whoever looks accepts it, a go-live does not ask for it'),
})
export type Finding = z.infer<typeof Finding>

/** How far the outbox reaches; null: not known. */
export const Reach = z.object({
  perSecond: z.number().nullable().describe('Messages a second'),
  octets: z.number().nullable().describe('Of one message'),
  hours: z.number().nullable().describe('So long a link may be away'),
  recordedS: z
    .number()
    .optional()
    .describe('Reckoned from what was recorded of its tags in so long; absent: from its beat, or from what the live version sends'),
})
export type Reach = z.infer<typeof Reach>

/** A level of the topics that a publication would write: how many lie under it. */
export const TopicNode = z.object({
  level: z.string(),
  count: z.number().int().describe('Topics at it and under it'),
  rate: z.number().nullable().describe('Messages a second over the last minute; null: not known before it is live'),
  get children(): z.ZodArray<typeof TopicNode> {
    return z.array(TopicNode)
  },
})
export type TopicNode = z.infer<typeof TopicNode>

/** A payload for people: as text or octets, with what travels beside it, and as it reads when it is decoded again. */
export const ShownPayload = z.object({
  payload: z.string().describe('As text; octets that are none as base64'),
  binary: z.boolean(),
  bytes: z.number().int().describe('As sent'),
  bytesBefore: z.number().int().describe('Before it was compressed'),
  contentType: z.string(),
  key: z.string(),
  headers: z.array(z.tuple([z.string(), z.string()])),
  responseTopic: z.string(),
  read: z
    .object({
      kind: z.string(),
      problem: z.string().describe('Empty: it could be read'),
      readings: z.array(
        z.object({
          equipment: z.string().nullable(),
          member: z.string(),
          value: z.string(),
          quality: z.string(),
          reason: z.string(),
          time: z.number().nullable(),
        }),
      ),
    })
    .describe('What the shape itself reads from it'),
})
export type ShownPayload = z.infer<typeof ShownPayload>

/** Values of tags at one moment: handle, value, status code, epoch ms (null: none). */
export const HeldValues = z
  .array(z.tuple([z.number().int().min(0), WireScalar, z.number().int().min(0).max(0xffffffff), z.number().nullable()]))
  .max(20_000)
export type HeldValues = z.infer<typeof HeldValues>

/** What one step does to the message that is shown. */
export const StepShown = z.object({
  result: z.enum(['passes', 'held', 'failed', 'unreached']),
  changes: z
    .array(z.object({ member: z.string(), before: z.string().nullable(), after: z.string().nullable(), quality: z.string() }))
    .describe('Members that differ after it, the first ones; null: there is none'),
  changeCount: z.number().int(),
  passing: z.object({ count: z.number().int(), of: z.number().int() }).nullable().describe('For how many equipment it lets a message pass now'),
  microseconds: z.number().nullable().describe('What it costs a message here and now'),
  console: z.array(z.string()),
  problem: z.string(),
})
export type StepShown = z.infer<typeof StepShown>

/** One real message as the publication would send it now. */
export const Preview = z.object({
  findings: z.array(Finding),
  topics: z.array(z.string()).describe('The first ones'),
  topicCount: z.number().int(),
  equipment: z.string().nullable(),
  topic: z.string().nullable(),
  message: ShownPayload.nullable(),
  steps: z.array(StepShown).default([]).describe('What each step does to it'),
  heldBy: z.number().int().nullable().default(null).describe('Place of the step that holds it back; null: none does'),
  held: HeldValues.default([]).describe('The values that it was made from: handed in again, it is made from them once more'),
  reach: Reach.nullable().default(null).describe('How far the outbox reaches, at the rate of the live version or of the clock'),
  leftBehind: z
    .array(z.string())
    .describe('Where the destination would keep something of the live version: places, with keys where it has them; the first ones'),
  leftBehindCount: z.number().int(),
  tree: z.array(TopicNode).describe('All topics as a tree, cut where it gets wide'),
  converted: z.array(z.tuple([z.string(), z.string()])).describe('Names that read otherwise in the topic'),
})
export type Preview = z.infer<typeof Preview>
