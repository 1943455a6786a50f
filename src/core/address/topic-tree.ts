import type { TopicNode } from '~/contract/publication'

/** So many children a level shows before the rest is counted together. */
const WIDE = 40

interface Open {
  count: number
  rate: number | null
  children: Map<string, Open>
}

/** Topics as a tree of their levels with counts and rates; a level with many children shows the first and one that stands for the rest. */
export function topicTree(topics: Iterable<string>, rateOf: (topic: string) => number | null = () => null, separator = '/'): TopicNode[] {
  const root: Open = { count: 0, rate: null, children: new Map() }
  for (const topic of topics) {
    let at = root
    at.count++
    const rate = rateOf(topic)
    for (const level of topic.split(separator)) {
      let next = at.children.get(level)
      if (!next) at.children.set(level, (next = { count: 0, rate: null, children: new Map() }))
      next.count++
      if (rate !== null) next.rate = (next.rate ?? 0) + rate
      at = next
    }
  }
  const of = (node: Open): TopicNode[] => {
    const all = [...node.children]
    const shown = all.slice(0, WIDE).map(([level, n]): TopicNode => ({ level, count: n.count, rate: n.rate, children: of(n) }))
    const rest = all.slice(WIDE)
    if (rest.length > 0)
      shown.push({ level: `and ${rest.length} more`, count: rest.reduce((sum, [, n]) => sum + n.count, 0), rate: null, children: [] })
    return shown
  }
  return of(root)
}
