import type { Equipment, Member } from '~/contract/equipment'
import type { Tag } from '~/contract/tag'
import { own } from '../value/own'
import { mayHangUnder, wrongPlace } from './hierarchy'
import type { Model, Resolver } from './resolve'

/** Tags as far as a check knows them: one that exists but was not read stands for any. */
export const someTag = { handle: 0, dataType: 'number', unit: '', deadband: null, range: null } as Tag

export interface Place {
  what: 'value' | 'part' | 'list'
  member: Member
}

/** What stands at a path by the class alone: a value, a part, a list. Null: the class has nothing there. */
export function memberAt(resolver: Resolver, classId: string | null, path: string): Place | null {
  let at = classId
  const parts = path.split('/')
  for (let i = 0; i < parts.length; i++) {
    const m = at ? resolver.members(at).find((x) => x.id === parts[i]) : undefined
    if (!m) return null
    if (m.many) {
      const place = parts[i + 1]
      if (place === undefined) return { what: 'list', member: m }
      if (!/^\d{1,4}$/.test(place)) return null
      i++
    }
    if (i === parts.length - 1) return { what: m.classId ? 'part' : 'value', member: m }
    at = m.classId
  }
  return null
}

/**
 * What is wrong with one equipment among all, by field. `model` holds it as it would be; `known` tells which ids exist.
 * Bindings that were there `before` are not looked at again, except for whether they now go round in a circle.
 */
export function equipmentProblems(
  one: Equipment,
  before: Equipment | null,
  resolver: Resolver,
  known: { tag(id: string): boolean; source(id: string): boolean },
): Record<string, string> {
  const { equipment, classes }: Model = resolver.model
  const fields: Record<string, string> = {}
  const parent = one.parentId ? equipment.get(one.parentId) : null
  if (one.parentId && !parent) fields.parentId = 'There is no such equipment'
  else if (!mayHangUnder(one.level, parent?.level ?? null)) fields.level = wrongPlace(one.level, parent ?? null)
  const above = new Set<string>()
  for (let at = parent; at && !above.has(at.id); at = at.parentId ? equipment.get(at.parentId) : null) above.add(at.id)
  if (above.has(one.id)) fields.parentId = 'It cannot stand under itself'
  if (one.classId && !classes.has(one.classId)) fields.classId = 'There is no such class'
  let looked = before === null || before.classId !== one.classId
  for (const [path, b] of Object.entries(one.bindings)) {
    if (before && before.classId === one.classId && JSON.stringify(own(before.bindings, path)) === JSON.stringify(b)) continue
    looked = true
    const field = `bindings.${path}`
    const at = memberAt(resolver, one.classId, path)
    const wanted = b.kind === 'equipment' ? 'part' : b.kind === 'below' ? 'list' : 'value'
    if (!at) fields[field] = 'The class has no such member'
    else if (at.what !== wanted) fields[field] = `A ${at.what} cannot be filled that way`
    else if (b.kind === 'below' && !at.member.classId) fields[field] = 'Only a list of parts can be equipment'
    else if (b.kind === 'tag' && !known.tag(b.tagId)) fields[field] = 'There is no such tag'
    else if (b.kind === 'record' && !known.source(b.sourceId)) fields[field] = 'There is no such record source'
    else if ((b.kind === 'equipment' || b.kind === 'member') && !equipment.has(b.equipmentId)) fields[field] = 'There is no such equipment'
    else if (b.kind === 'expression') {
      const lost = Object.entries(b.expression.inputs).find(([, i]) => i.kind === 'tag' && !known.tag(i.tagId))
      if (lost) fields[field] = `${lost[0]}: There is no such tag`
    }
  }
  if (!looked || Object.keys(fields).length > 0) return fields
  for (const leaf of resolver.leavesOf(one)) {
    const { problem, owner, path, binding } = leaf
    if (!problem) continue
    const wrong = problem.kind === 'cycle' || (problem.kind === 'broken' && binding?.kind === 'expression' && owner.id === one.id && !leaf.byClass)
    if (wrong) fields[owner.id === one.id ? `bindings.${path}` : 'bindings'] = problem.message
  }
  return fields
}
