import type { PlanMember } from '~/contract/publication'

/** Members as they nest: a value (its place among the members; -1: a place in a list of values that no member has), an object, or a list. */
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

/** Lists without holes: a place that no member has is an empty object, or no value in a list of values. */
function filled(node: Node): Node {
  if ('fields' in node) return { fields: node.fields.map(([name, n]) => [name, filled(n)]) }
  if ('items' in node) {
    const values = node.items.some((n) => n && 'leaf' in n)
    return { items: Array.from(node.items, (n) => (n ? filled(n) : values ? { leaf: -1 } : { fields: [] })) }
  }
  return node
}

/** Members that are values of one list, each list with two or more: they go together, since a place left out would read as no value. */
export function listsOf(members: readonly Pick<PlanMember, 'key'>[]): number[][] {
  const lists = new Map<string, number[]>()
  members.forEach((m, i) => {
    const list = /^(.*)\.\d+$/.exec(m.key)?.[1]
    if (list !== undefined) lists.set(list, [...(lists.get(list) ?? []), i])
  })
  return [...lists.values()].filter((l) => l.length > 1)
}

/** Whether anything under it is taken. */
export function anyTaken(node: Node, take: Uint8Array): boolean {
  if ('leaf' in node) return node.leaf >= 0 && take[node.leaf] !== 0
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
