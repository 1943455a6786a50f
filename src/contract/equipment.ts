import { z } from 'zod'
import { Id, Name, shortId } from './id'
import { DataType, Range } from './tag'

/** ISA-95 (IEC 62264-1 5.3) levels of the hierarchy, from the top. */
export const Level = z.enum(['enterprise', 'site', 'area', 'work centre', 'work unit'])
export type Level = z.infer<typeof Level>

export const MemberKey = z.string().regex(/^[a-z][A-Za-z0-9]{0,39}$/, 'A letter a-z, then letters and digits, at most 40')

/** Identity of a member within its class; never shown. Begins with a letter, so that it cannot be taken for a place in a list. */
export const MemberId = z.string().regex(/^[a-z][a-z0-9]{0,15}$/, 'A member has an id of letters and digits')

/**
 * Which value of an equipment is meant, by ids: `k3x9a2bq` a member, `k3x9a2bq/m81z0qpa` a member of a nested part,
 * `k3x9a2bq/4/m81z0qpa` a member of the fifth item of a list. Names may change, this does not.
 */
export const MemberPath = z.string().regex(/^[a-z][a-z0-9]{0,15}(\/[a-z0-9]{1,16})*$/, 'Member ids parted by slashes')
export type MemberPath = string

/** A name under which an expression knows one of its inputs. */
export const Variable = z.string().regex(/^[A-Za-z_][A-Za-z0-9_]{0,59}$/, 'A letter, then letters, digits and _')

/** What an expression computes with. `equipmentId` null: the equipment whose member this is. */
export const ExpressionInput = z.discriminatedUnion('kind', [
  z.object({ kind: z.literal('tag'), tagId: Id }),
  z.object({ kind: z.literal('member'), equipmentId: Id.nullable().default(null), path: MemberPath }),
  z.object({ kind: z.literal('fact'), fact: z.string().min(1).max(60) }),
])
export type ExpressionInput = z.infer<typeof ExpressionInput>

/** A computed value: text in CEL, and what each of its names stands for, by id. */
export const Expression = z.object({
  text: z.string().trim().min(1, 'What is to be computed?').max(4000, 'At most 4000 characters'),
  inputs: z.record(Variable, ExpressionInput).default({}),
})
export type Expression = z.infer<typeof Expression>

const Allowed = z.array(z.union([z.number(), z.string().max(200)])).max(200)

export const Member = z
  .object({
    id: MemberId.default(() => shortId()),
    key: MemberKey.describe('Its name in payloads'),
    label: Name,
    description: z.string().trim().max(500, 'At most 500 characters').default(''),
    required: z.boolean().default(true).describe('An equipment without it is not complete'),
    many: z.boolean().default(false).describe('A list of these'),
    classId: Id.nullable().default(null).describe('A nested part of that class; null: a value'),
    dataType: DataType.default('number'),
    unit: z.string().trim().max(24, 'At most 24 characters').default(''),
    range: Range.nullable().default(null),
    allowed: Allowed.nullable().default(null).describe('Only these values'),
    calculation: Expression.nullable().default(null).describe('Computed the same way in every equipment of the class, unless bound otherwise'),
  })
  .superRefine((m, ctx) => {
    const say = (path: string, message: string) => ctx.addIssue({ code: 'custom', path: [path], message })
    if (m.range && m.dataType !== 'number' && m.dataType !== 'integer') say('range', `A ${m.dataType} has no range`)
    const wanted = m.dataType === 'number' || m.dataType === 'integer' ? 'number' : 'string'
    if (m.allowed?.some((v) => typeof v !== wanted)) say('allowed', `Each must be a ${wanted === 'number' ? 'number' : 'text'}`)
    if (m.calculation && (m.classId || m.many)) say('calculation', 'Only a single value can be computed')
  })
export type Member = z.infer<typeof Member>
export type MemberInput = z.input<typeof Member>

export const ClassDraft = z
  .object({
    name: Name,
    description: z.string().trim().max(500, 'At most 500 characters').default(''),
    extendsId: Id.nullable().default(null).describe('Has all members of that class too'),
    members: z.array(Member).max(500),
  })
  .superRefine((c, ctx) => {
    const seen = new Set<string>()
    c.members.forEach((m, i) => {
      if (seen.has(m.key)) ctx.addIssue({ code: 'custom', path: ['members', i, 'key'], message: `${m.key} is there twice` })
      if (seen.has(`/${m.id}`)) ctx.addIssue({ code: 'custom', path: ['members', i, 'id'], message: 'Two members have the same id' })
      seen.add(m.key)
      seen.add(`/${m.id}`)
    })
  })
export type ClassDraft = z.infer<typeof ClassDraft>
export type ClassInput = z.input<typeof ClassDraft>
export const EquipmentClass = z.object({
  id: Id,
  name: Name,
  description: z.string(),
  extendsId: Id.nullable(),
  members: z.array(Member),
  version: z.number().int(),
  equipmentCount: z.number().int(),
})
export type EquipmentClass = z.infer<typeof EquipmentClass>

/** A class as it once was. */
export const ClassVersion = z.object({
  version: z.number().int(),
  at: z.number().describe('Epoch ms'),
  by: z.string(),
  draft: ClassDraft,
})
export type ClassVersion = z.infer<typeof ClassVersion>

const Value = z.union([z.number(), z.string().max(500), z.boolean()])

/** What fills a member, or with `equipment` and `below` a nested part or list. */
export const Binding = z.discriminatedUnion('kind', [
  z.object({ kind: z.literal('tag'), tagId: Id }),
  z.object({ kind: z.literal('constant'), value: Value }),
  z.object({ kind: z.literal('expression'), expression: Expression }),
  z.object({
    kind: z.literal('record'),
    sourceId: Id,
    row: z.string().max(200).default('').describe('Key of the row, with {name}, {alias} or {fact.x}; empty when the query gives one row'),
    column: z.string().min(1, 'Which column?').max(200),
  }),
  z.object({ kind: z.literal('fact'), fact: z.string().min(1, 'Which fact?').max(60) }),
  z.object({ kind: z.literal('member'), equipmentId: Id, path: MemberPath }),
  z.object({ kind: z.literal('equipment'), equipmentId: Id }).describe('This part is that equipment'),
  z.object({ kind: z.literal('below') }).describe('The list is the equipment of that class standing under this one'),
])
export type Binding = z.infer<typeof Binding>
export type BindingKind = Binding['kind']

const Facts = z.record(z.string().trim().min(1, 'A fact needs a name').max(60, 'At most 60 characters'), Value)

/** What an equipment has, without defaults. */
const properties = {
  name: Name,
  parentId: Id.nullable(),
  level: Level,
  classId: Id.nullable(),
  alias: z.string().trim().max(120, 'At most 120 characters').describe('Its name outside; empty: its own'),
  facts: Facts.describe('Serial number, maker and whatever else is known of it'),
  externalIds: z
    .record(z.string().trim().min(1).max(60), z.string().trim().min(1).max(200))
    .describe('Under which id a receiver knows it, by receiver'),
  counts: z.record(MemberPath, z.number().int().min(0).max(1000)).describe('How many items a list has'),
  bindings: z.record(MemberPath, Binding),
}

export const EquipmentDraft = z.object({
  ...properties,
  classId: properties.classId.default(null),
  alias: properties.alias.default(''),
  facts: properties.facts.default({}),
  externalIds: properties.externalIds.default({}),
  counts: properties.counts.default({}),
  bindings: properties.bindings.default({}),
})
export type EquipmentDraft = z.infer<typeof EquipmentDraft>
/** As callers write it: what has a default may be left out. */
export type EquipmentInput = z.input<typeof EquipmentDraft>

export const Equipment = EquipmentDraft.extend({ id: Id, version: z.number().int() })
export type Equipment = z.infer<typeof Equipment>

/** An equipment without what fills its members. */
export const EquipmentBrief = Equipment.pick({ id: true, name: true, parentId: true, level: true, classId: true })
export type EquipmentBrief = z.infer<typeof EquipmentBrief>

const version = z.number().int().optional().describe('Refused when the stored one is newer')
export const EQUIPMENT_EDIT_MAX = 20_000

/** Many equipment added, changed and removed together: all or none. Of a change only what is given changes. */
export const EquipmentEdit = z.object({
  add: z
    .array(EquipmentDraft.extend({ id: Id.optional().describe('So that others of the same edit can stand under it') }))
    .max(EQUIPMENT_EDIT_MAX)
    .default([]),
  change: z
    .array(z.object(properties).partial().extend({ id: Id, version }))
    .max(EQUIPMENT_EDIT_MAX)
    .default([]),
  remove: z
    .array(z.object({ id: Id, version }))
    .max(EQUIPMENT_EDIT_MAX)
    .default([]),
})
export type EquipmentEdit = z.infer<typeof EquipmentEdit>
export type EquipmentEditInput = z.input<typeof EquipmentEdit>

/** What came of an edit, and the edit that takes it back. */
export const EquipmentEdited = z.object({ equipment: z.array(Equipment).describe('Added and changed'), removed: z.array(Id), undo: EquipmentEdit })
export type EquipmentEdited = z.infer<typeof EquipmentEdited>

/** A place in the result of a record source, read into the live values under a handle of its own. */
export const RecordColumn = z.object({ sourceId: Id, row: z.string(), column: z.string(), dataType: DataType, handle: z.number().int() })
export type RecordColumn = z.infer<typeof RecordColumn>
