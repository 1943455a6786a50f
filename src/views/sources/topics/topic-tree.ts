import type { HeardTopic } from '~/contract/sources/mqtt'
import type { DataType } from '~/contract/tag'
import type { TreeRow } from '../../shared/VirtualTree'

/** Something a tag can be made of: a bare payload, a leaf of JSON, or a metric. */
export interface TopicLeaf {
  address: string
  levels: string[]
  value: string
  dataType: DataType
  unit: string
}

export interface TopicRow extends TreeRow {
  /** The topic of this row, when messages came on it. */
  heard: HeardTopic | null
  leaf: TopicLeaf | null
  /** Leaves under it. */
  under: number
}

interface Branch {
  path: string
  name: string
  children: Map<string, Branch>
  heard: HeardTopic | null
}

/** Leaves of a topic with the levels under which they show. */
export function leavesOfTopic(t: HeardTopic): TopicLeaf[] {
  const levels = t.topic.split('/')
  return t.leaves.map((l) => {
    const hash = l.address.indexOf('#')
    const inner = hash < 0 ? [] : l.name.split('/')
    // Metrics of Sparkplug belong to their node or device, not to the kind of message that brought them.
    const base = t.format === 'sparkplug' ? l.address.slice(0, hash).split('/') : levels
    return { address: l.address, levels: [...base, ...inner], value: l.value, dataType: l.dataType, unit: l.unit ?? '' }
  })
}

/** Lays the heard topics flat as a tree: what is open, and with words only what fits them. */
export function topicRows(
  topics: ReadonlyMap<string, HeardTopic>,
  closed: ReadonlySet<string>,
  words: string,
  picked: ReadonlyMap<string, TopicLeaf>,
  taken: ReadonlyMap<string, string>,
): TopicRow[] {
  const root: Branch = { path: '', name: '', children: new Map(), heard: null }
  for (const t of topics.values()) {
    if (words && !`${t.topic} ${t.leaves.map((l) => l.name).join(' ')}`.toLowerCase().includes(words)) continue
    let at = root
    for (const level of t.topic.split('/')) {
      const path = at === root ? level : `${at.path}/${level}`
      let next = at.children.get(level)
      if (!next) at.children.set(level, (next = { path, name: level, children: new Map(), heard: null }))
      at = next
    }
    at.heard = t
  }
  const rows: TopicRow[] = []
  const walk = (b: Branch, depth: number): number => {
    const place = rows.length
    const leaves = b.heard ? leavesOfTopic(b.heard) : []
    const bare = leaves.length === 1 && leaves[0]!.address === b.path ? leaves[0]! : null
    const inside = bare ? [] : leaves
    const parent = b.children.size > 0 || inside.length > 0
    const open = !closed.has(b.path)
    const ticked = (l: TopicLeaf) => picked.has(l.address) || taken.has(l.address)
    rows.push({
      id: b.path || ' ',
      depth,
      label: b.name || '(empty level)',
      open: parent ? open : null,
      ticked: bare ? ticked(bare) : null,
      locked: bare ? taken.has(bare.address) : false,
      heard: b.heard,
      leaf: bare,
      under: 0,
    })
    const before = rows.length
    let under = bare ? 1 : 0
    for (const child of [...b.children.values()].sort((x, y) => x.name.localeCompare(y.name, 'en', { numeric: true })))
      under += walk(child, depth + 1)
    for (const leaf of inside) {
      under++
      rows.push({
        id: leaf.address,
        depth: depth + 1,
        label: leaf.address.slice(leaf.address.indexOf('#') + 1).replace(/^\//, ''),
        open: null,
        ticked: ticked(leaf),
        locked: taken.has(leaf.address),
        heard: b.heard,
        leaf,
        under: 1,
      })
    }
    if (!open) rows.length = before
    rows[place]!.under = under
    return under
  }
  for (const child of [...root.children.values()].sort((x, y) => x.name.localeCompare(y.name, 'en', { numeric: true }))) walk(child, 0)
  return rows
}
