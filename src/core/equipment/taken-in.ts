import type { Equipment } from '~/contract/equipment'

/**
 * Ids of some equipment and of all whose members it takes in: parts, other members, lists of what stands below it. (Calculations
 * of classes name no equipment but their own.)
 */
export function takenIn(equipment: ReadonlyMap<string, Equipment>, ids: Iterable<string>): Set<string> {
  const below = new Map<string, string[]>()
  for (const { id, parentId } of equipment.values()) {
    if (parentId === null) continue
    const there = below.get(parentId)
    if (there) there.push(id)
    else below.set(parentId, [id])
  }
  const out = new Set<string>()
  const open = [...ids]
  for (let id = open.pop(); id !== undefined; id = open.pop()) {
    const one = equipment.get(id)
    if (!one || out.has(id)) continue
    out.add(id)
    for (const binding of Object.values(one.bindings)) {
      if (binding.kind === 'below') open.push(...(below.get(id) ?? []))
      else open.push(...named(binding))
    }
  }
  return out
}

/** Ids of equipment that stand anywhere in a binding, also in the inputs of an expression. */
function named(of: unknown): string[] {
  if (typeof of !== 'object' || of === null) return []
  return Object.entries(of).flatMap(([key, value]) => (key === 'equipmentId' && typeof value === 'string' ? [value] : named(value)))
}
