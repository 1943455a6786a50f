import type { Equipment, Level } from '~/contract/equipment'

/** `'an area'`, `'a site'`: for sentences. */
export const aLevel = (l: Level): string => (l === 'area' || l === 'enterprise' ? `an ${l}` : `a ${l}`)

/** Why one level cannot stand under another, or at the top. */
export const wrongPlace = (level: Level, parent: Pick<Equipment, 'name' | 'level'> | null): string =>
  parent ? `${aLevel(level).replace(/^a/, 'A')} cannot stand under ${parent.name}, ${aLevel(parent.level)}` : 'Only an enterprise stands at the top'

type Node = Pick<Equipment, 'id' | 'name' | 'parentId' | 'level'>

const depth: Record<Level, number> = { enterprise: 0, site: 1, area: 2, 'work centre': 3, 'work unit': 4 }

/** Whether a node of level `child` may hang under one of level `parent` (null: at the top). */
export function mayHangUnder(child: Level, parent: Level | null): boolean {
  return parent === null ? child === 'enterprise' : depth[child] > depth[parent]
}

/** The chain from the top down to and including `id`; empty when unknown. A loop ends where it closes. */
export function lineage<T extends Node>(byId: ReadonlyMap<string, T>, id: string): T[] {
  const chain: T[] = []
  const seen = new Set<string>()
  for (let at = byId.get(id); at && !seen.has(at.id); at = at.parentId ? byId.get(at.parentId) : undefined) {
    seen.add(at.id)
    chain.unshift(at)
  }
  return chain
}

/** `'Varnmoor / Lower Pit / Firing'`: for people, never a reference. */
export function pathText(byId: ReadonlyMap<string, Node>, id: string): string {
  return lineage(byId, id)
    .map((n) => n.name)
    .join(' / ')
}

/** All ids below `id`, itself included. */
export function branchOf(nodes: readonly Node[], id: string): Set<string> {
  const children = new Map<string, string[]>()
  for (const n of nodes) if (n.parentId) children.set(n.parentId, [...(children.get(n.parentId) ?? []), n.id])
  const branch = new Set<string>()
  const todo = [id]
  for (let next = todo.pop(); next !== undefined; next = todo.pop()) {
    if (branch.has(next)) continue
    branch.add(next)
    todo.push(...(children.get(next) ?? []))
  }
  return branch
}

/** Order for people: numbers in names count as numbers, so Zone 2 comes before Zone 10. */
export const byName = new Intl.Collator('en', { numeric: true, sensitivity: 'base' }).compare
