import type { PlanMember } from '~/contract/publication'

/** Members as they nest: a value (its place among the members), an object, or a list. */
export type Node = { leaf: number } | { fields: [string, Node][] } | { items: Node[] }

/** The tree of members whose keys are `zones.3.temperature`: places in lists are numbers. */
export function treeOf(members: readonly PlanMember[], only: number | null = null): Extract<Node, { fields: unknown }> {
  const root: Extract<Node, { fields: unknown }> = { fields: [] }
  members.forEach((m, i) => {
    if (only !== null && only !== i) return
    const parts = m.key.split('.')
    let at: Node = root
    parts.forEach((part, p) => {
      const last = p === parts.length - 1
      const next: Node = last ? { leaf: i } : /^\d+$/.test(parts[p + 1]!) ? { items: [] } : { fields: [] }
      if ('fields' in at) {
        const known = at.fields.find(([name]) => name === part)
        if (known) at = known[1]
        else {
          at.fields.push([part, next])
          at = next
        }
      } else if ('items' in at) {
        const place = Number(part)
        at.items[place] ??= next
        at = at.items[place]!
      }
    })
  })
  return filled(root) as Extract<Node, { fields: unknown }>
}

/** Lists without holes: a place that no member has is an empty object. */
function filled(node: Node): Node {
  if ('fields' in node) return { fields: node.fields.map(([name, n]) => [name, filled(n)]) }
  if ('items' in node) return { items: Array.from(node.items, (n) => (n ? filled(n) : { fields: [] })) }
  return node
}

/** Whether anything under it is taken. */
export function anyTaken(node: Node, take: Uint8Array): boolean {
  if ('leaf' in node) return take[node.leaf] !== 0
  if ('fields' in node) return node.fields.some(([, n]) => anyTaken(n, take))
  return node.items.some((n) => anyTaken(n, take))
}

/** What stands at a member's place in something nested; undefined when nothing does. Only own properties count. */
export function atKey(root: unknown, key: string): unknown {
  let at = root
  for (const part of key.split('.')) {
    if (typeof at !== 'object' || at === null || !Object.hasOwn(at, part)) return undefined
    at = (at as Record<string, unknown>)[part]
  }
  return at
}
