import { z } from 'zod'
import { Address } from './address'
import { TopicRule } from './addresses/text'
import { Level } from './equipment'
import { Id, Name } from './id'
import { ShapeSettings } from './shape'
import { DataType, Range } from './tag'
import { Pace, Trigger } from './trigger'

/** Equipment by what it is: all that is given has to be so. Only equipment with a class goes out. */
export const EquipmentRule = z.object({
  classId: Id.optional().describe('Of this class, or of one that extends it'),
  underId: Id.optional().describe('In this branch'),
  fact: z
    .object({ name: z.string().trim().min(1, 'Which fact?').max(100), value: z.string().trim().max(500).optional() })
    .optional()
    .describe('With this fact, or with this value of it'),
})
export type EquipmentRule = z.infer<typeof EquipmentRule>

export const PublicationDraft = z.object({
  name: Name,
  equipmentIds: z.array(Id).min(1, 'Choose at least one equipment').max(10_000),
  rule: EquipmentRule.optional().describe('By which equipment is chosen at each go-live, in the place of what is listed'),
  trigger: Trigger,
  pace: Pace.optional(),
  shape: ShapeSettings,
  address: Address,
  steersOnly: z.boolean().default(false).describe('Members that steer the address stay out of the payload'),
  destinationId: Id,
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

const Scalar = z.union([z.number(), z.string(), z.boolean()])
const conversion = { factor: z.number(), offset: z.number() }

/** Where a value comes from, with nothing left to look up: `value * factor + offset` of what is read or computed. */
export type Fill =
  | { kind: 'tag'; handle: number; width: number; factor: number; offset: number }
  | { kind: 'constant'; value: number | string | boolean }
  | { kind: 'expression'; text: string; inputs: FillInput[]; factor: number; offset: number }
export interface FillInput {
  name: string
  dataType: DataType
  fill: Fill
}
export const Fill: z.ZodType<Fill> = z.lazy(() =>
  z.discriminatedUnion('kind', [
    z.object({
      kind: z.literal('tag'),
      handle: z.number().int(),
      width: z.number().describe('How far it must move to count as changed, in its own unit'),
      ...conversion,
    }),
    z.object({ kind: z.literal('constant'), value: Scalar }),
    z.object({
      kind: z.literal('expression'),
      text: z.string(),
      inputs: z.array(z.object({ name: z.string(), dataType: DataType, fill: Fill })),
      ...conversion,
    }),
  ]),
)

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
  facts: z.record(z.string(), Scalar),
  members: z.array(PlanMember),
})
export type PlanEquipment = z.infer<typeof PlanEquipment>

/** What shapes and addresses of some equipment can name. */
export const AsSent = z.object({
  example: PlanEquipment.nullable().describe('The first of them; null: there is none'),
  common: z.array(z.string()).describe('Keys of the members that each of them has'),
})
export type AsSent = z.infer<typeof AsSent>

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
  shape: ShapeSettings,
  address: Address.describe('As it was chosen; what each message makes of it stands with the messages'),
  contentType: z.string(),
  reads: z.array(z.string()).describe('What a witness has to read to see all of it, in the words of its kind'),
  backTo: z.number().int().optional().describe('The version that this one is again'),
  equipment: z.array(PlanEquipment),
  messages: z.array(PlanMessage),
})
export type Plan = z.infer<typeof Plan>

/** A finding of the checks before a go-live. */
export const Finding = z.object({
  severity: z.enum(['stops', 'warns']),
  section: z.enum(['what', 'when', 'shape', 'address', 'through', 'safely']),
  message: z.string(),
  hint: z.string(),
})
export type Finding = z.infer<typeof Finding>

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

/** One real message as the publication would send it now. */
export const Preview = z.object({
  findings: z.array(Finding),
  topics: z.array(z.string()).describe('The first ones'),
  topicCount: z.number().int(),
  equipment: z.string().nullable(),
  topic: z.string().nullable(),
  message: ShownPayload.nullable(),
  leftBehind: z
    .array(z.string())
    .describe('Where the destination would keep something of the live version: places, with keys where it has them; the first ones'),
  leftBehindCount: z.number().int(),
  tree: z.array(TopicNode).describe('All topics as a tree, cut where it gets wide'),
  converted: z.array(z.tuple([z.string(), z.string()])).describe('Names that read otherwise in the topic'),
})
export type Preview = z.infer<typeof Preview>
