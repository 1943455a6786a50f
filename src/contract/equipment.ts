import { z } from 'zod'
import { Id, Name } from './id'
import { DataType } from './tag'

/** ISA-95 (IEC 62264-1 5.3) levels of the hierarchy, from the top. */
export const Level = z.enum(['enterprise', 'site', 'area', 'work centre', 'work unit'])
export type Level = z.infer<typeof Level>

export const MemberKey = z.string().regex(/^[a-z][A-Za-z0-9]{0,39}$/, 'A letter a-z, then letters and digits, at most 40')

export const Member = z.object({
  key: MemberKey.describe('Its name in payloads; bindings refer to it'),
  label: Name,
  dataType: DataType,
  unit: z.string().trim().max(24).default(''),
})
export type Member = z.infer<typeof Member>

export const ClassDraft = z.object({ name: Name, members: z.array(Member).max(500) }).superRefine((c, ctx) => {
  const seen = new Set<string>()
  c.members.forEach((m, i) => {
    if (seen.has(m.key)) ctx.addIssue({ code: 'custom', path: ['members', i, 'key'], message: `${m.key} is there twice` })
    seen.add(m.key)
  })
})
export type ClassDraft = z.infer<typeof ClassDraft>
export const EquipmentClass = z.object({
  id: Id,
  name: Name,
  members: z.array(Member),
  version: z.number().int(),
  equipmentCount: z.number().int(),
})
export type EquipmentClass = z.infer<typeof EquipmentClass>

/** What fills a member. */
export const Binding = z.discriminatedUnion('kind', [
  z.object({ kind: z.literal('tag'), tagId: Id }),
  z.object({ kind: z.literal('constant'), value: z.union([z.number(), z.string().max(500), z.boolean()]) }),
])
export type Binding = z.infer<typeof Binding>

export const EquipmentDraft = z.object({
  name: Name,
  parentId: Id.nullable(),
  level: Level,
  classId: Id.nullable().default(null),
  bindings: z.record(MemberKey, Binding).default({}),
})
export type EquipmentDraft = z.infer<typeof EquipmentDraft>

export const Equipment = EquipmentDraft.extend({ id: Id, version: z.number().int() })
export type Equipment = z.infer<typeof Equipment>
