import type { ClassDraft, EquipmentClass, Member } from '~/contract/equipment'
import { compileExpression } from '../expression/compile'

export type ClassLike = Pick<EquipmentClass, 'id' | 'name' | 'extendsId' | 'members'> & { version?: number }
export type Classes = ReadonlyMap<string, ClassLike>

/** A class and those that it extends, from itself upwards; a loop ends where it closes. */
export function ancestry(classes: Classes, id: string): ClassLike[] {
  const out: ClassLike[] = []
  for (let at = classes.get(id); at && !out.includes(at); at = at.extendsId ? classes.get(at.extendsId) : undefined) out.push(at)
  return out
}

/** Whether equipment of class `id` may stand where one of class `wanted` is asked for. */
export const isA = (classes: Classes, id: string | null, wanted: string): boolean => id !== null && ancestry(classes, id).some((c) => c.id === wanted)

/** All members of a class: those that it inherits first, then its own. */
export function membersOf(classes: Classes, id: string): Member[] {
  return ancestry(classes, id)
    .reverse()
    .flatMap((c) => c.members)
}

/** Classes that a class holds as parts, or extends, at any depth: itself among them means that it would never end. */
function reaches(classes: Classes, from: string, wanted: string): string[] | null {
  const seen = new Set<string>()
  const walk = (id: string, path: string[]): string[] | null => {
    const cls = classes.get(id)
    if (!cls) return null
    const now = [...path, cls.name]
    if (id === wanted && path.length > 0) return now
    if (seen.has(id)) return null
    seen.add(id)
    for (const next of [cls.extendsId, ...cls.members.map((m) => m.classId)]) {
      const found = next ? walk(next, now) : null
      if (found) return found
    }
    return null
  }
  return walk(from, [])
}

/** What a calculation of a class may use: values of the class itself, their paths as inputs name them. */
export function calculationProblem(member: Member, members: readonly Member[]): string | null {
  if (!member.calculation) return null
  const { text, inputs } = member.calculation
  const byId = new Map(members.map((m) => [m.id, m]))
  const variables = []
  for (const [name, input] of Object.entries(inputs)) {
    if (input.kind === 'fact') {
      variables.push({ name, dataType: 'text' as const })
      continue
    }
    if (input.kind === 'tag' || input.equipmentId !== null) return `${name}: the calculation of a class uses only its own members and facts`
    const of = byId.get(input.path)
    if (!of || of.classId || of.many) return `${name} stands for a member that the class does not have`
    variables.push({ name, dataType: of.dataType })
  }
  const compiled = compileExpression(text, variables)
  return 'run' in compiled ? null : compiled.message
}

/**
 * What is wrong with a class among the others, by field: `members.2.key`. `id` null: a new one.
 * A class must not hold or extend itself, and its members must differ from inherited ones.
 */
export function classProblems(draft: ClassDraft, id: string | null, classes: Classes): Record<string, string> {
  const fields: Record<string, string> = {}
  const own = id ?? 'new'
  const after = new Map(classes).set(own, { id: own, name: draft.name, extendsId: draft.extendsId, members: draft.members })
  if (draft.extendsId && !classes.has(draft.extendsId)) fields.extendsId = 'There is no such class'
  draft.members.forEach((m, i) => {
    if (m.classId && !after.has(m.classId)) fields[`members.${i}.classId`] = 'There is no such class'
  })
  const loop = reaches(after, own, own)
  if (loop) {
    const path = `A class within itself never ends: ${loop.join(' > ')}`
    const at = draft.members.findIndex((m) => m.classId && (m.classId === own || reaches(after, m.classId, own)))
    fields[at >= 0 ? `members.${at}.classId` : 'extendsId'] = path
    return fields
  }
  const inherited = draft.extendsId ? membersOf(after, draft.extendsId) : []
  draft.members.forEach((m, i) => {
    const twin = inherited.find((x) => x.key === m.key || x.id === m.id)
    if (twin) fields[`members.${i}.key`] = `${m.key} is inherited already`
    const problem = calculationProblem(m, [...inherited, ...draft.members])
    if (problem) fields[`members.${i}.calculation`] = problem
  })
  // Classes that extend this one must not get two members of one name.
  if (id)
    for (const c of classes.values()) {
      if (c.id === id || !isA(after, c.id, id)) continue
      const line = ancestry(after, c.id)
      for (const below of line.slice(
        0,
        line.findIndex((x) => x.id === id),
      ))
        for (const m of below.members) {
          const at = draft.members.findIndex((x) => x.key === m.key)
          if (at >= 0) fields[`members.${at}.key`] = `${below.name}, which extends it, has ${m.key} already`
        }
    }
  return fields
}
