import type { ClassDraft, Equipment } from '~/contract/equipment'
import type { Tag } from '~/contract/tag'
import { type Classes, classProblems, membersOf } from './members'
import { Resolver } from './resolve'

/** All that is wrong with a class among the others, by field; calculations that need each other among it. */
export function checkClass(draft: ClassDraft, id: string | null, classes: Classes): Record<string, string> {
  const fields = classProblems(draft, id, classes)
  if (Object.keys(fields).length > 0) return fields
  const own = id ?? 'new'
  const after = new Map(classes).set(own, { id: own, name: draft.name, extendsId: draft.extendsId, members: draft.members })
  const one: Equipment = {
    id: own,
    name: draft.name,
    parentId: null,
    level: 'work unit',
    classId: own,
    alias: '',
    facts: {},
    externalIds: {},
    counts: {},
    // With every plain member filled, what remains unfilled goes round in a circle.
    bindings: Object.fromEntries(
      membersOf(after, own)
        .filter((m) => !m.calculation && !m.classId && !m.many)
        .map((m) => [m.id, { kind: 'constant' as const, value: 1 }]),
    ),
    version: 1,
  }
  const resolver = new Resolver({ equipment: new Map([[own, one]]), classes: after, tags: new Map<string, Tag>(), records: new Map() })
  for (const leaf of resolver.leavesOf(one)) {
    if (leaf.problem?.kind !== 'cycle') continue
    const at = draft.members.findIndex((m) => m.id === leaf.member.id)
    if (at >= 0) fields[`members.${at}.calculation`] = leaf.problem.message
  }
  return fields
}
