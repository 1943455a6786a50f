import { z } from 'zod'
import { Level } from './equipment'
import { Id, Name } from './id'
import { DataType } from './tag'

export const Trigger = z.discriminatedUnion('kind', [
  z.object({ kind: z.literal('change') }),
  z.object({
    kind: z.literal('every'),
    seconds: z.number({ error: 'A number of seconds' }).min(0.1, 'At least 0.1 s').max(86_400, 'At most a day'),
  }),
])
export type Trigger = z.infer<typeof Trigger>

export const Qos = z.union([z.literal(0), z.literal(1), z.literal(2)])
export type Qos = z.infer<typeof Qos>

export const PublicationDraft = z.object({
  name: Name,
  equipmentIds: z.array(Id).min(1, 'Choose at least one equipment').max(10_000),
  trigger: Trigger,
  shape: z.literal('compact-json'),
  topic: z.string().trim().min(1, 'Which topic?').max(500).describe('Template: {enterprise} {site} {area} {centre} {unit} {name} {class}'),
  qos: Qos,
  retain: z.boolean(),
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
})
export type PlanMember = z.infer<typeof PlanMember>

/** What a go-live freezes: everything resolved, so that a later edit cannot change what is being sent. */
export const Plan = z.object({
  publicationId: Id,
  name: z.string(),
  number: z.number().int(),
  delivery: z.number().int().describe('Number of the pair of publication and destination; part of message ids'),
  destinationId: Id,
  trigger: Trigger,
  shape: z.literal('compact-json'),
  qos: Qos,
  retain: z.boolean(),
  filter: z.string().describe('MQTT topic filter that covers all its topics'),
  equipment: z.array(z.object({ id: Id, name: z.string(), level: Level, topic: z.string(), members: z.array(PlanMember) })),
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

/** One real message as the publication would send it now. */
export const Preview = z.object({
  findings: z.array(Finding),
  topics: z.array(z.string()).describe('The first ones'),
  topicCount: z.number().int(),
  equipment: z.string().nullable(),
  topic: z.string().nullable(),
  payload: z.string().nullable(),
  bytes: z.number().int(),
})
export type Preview = z.infer<typeof Preview>
