import type { Equipment, EquipmentClass } from '~/contract/equipment'
import type { EquipmentRule } from '~/contract/publication'
import { branchOf, byName, pathText } from './hierarchy'

type Class = Pick<EquipmentClass, 'id' | 'extendsId'>

/** Whether a class is another one, or extends it, however far off. */
export function isOf(classes: ReadonlyMap<string, Class>, id: string | null, wanted: string): boolean {
  const seen = new Set<string>()
  for (let at = id; at !== null && !seen.has(at); at = classes.get(at)?.extendsId ?? null) {
    if (at === wanted) return true
    seen.add(at)
  }
  return false
}

/** Ids of all equipment with a class that a rule is for, by their paths. */
export function matching(rule: EquipmentRule, equipment: ReadonlyMap<string, Equipment>, classes: ReadonlyMap<string, Class>): string[] {
  const all = [...equipment.values()]
  const branch = rule.underId === undefined ? null : branchOf(all, rule.underId)
  const { classId, fact } = rule
  const found = all.filter((e) => {
    if (e.classId === null || (branch && !branch.has(e.id))) return false
    if (classId !== undefined && !isOf(classes, e.classId, classId)) return false
    if (!fact) return true
    if (!Object.hasOwn(e.facts, fact.name)) return false
    return fact.value === undefined || String(e.facts[fact.name]) === fact.value
  })
  const paths = new Map(found.map((e) => [e.id, pathText(equipment, e.id)]))
  return found.map((e) => e.id).sort((a, b) => byName(paths.get(a)!, paths.get(b)!) || (a < b ? -1 : 1))
}
