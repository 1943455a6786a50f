import { ChevronDown, ChevronRight } from 'lucide-react'
import { useState } from 'react'
import type { TopicNode } from '~/contract/publication'
import { countText } from '~/ui/time'

/** Two digits that count. */
const rateText = (n: number) => (n === 0 ? '0' : n >= 10 ? n.toFixed(0) : n >= 1 ? n.toFixed(1) : n.toPrecision(2))

/** So many lines stand open at first. */
const OPEN = 14

/** Levels that have one child only stand in one line with it. */
function folded(node: TopicNode, separator: string): TopicNode {
  let at = node
  let level = node.level
  while (at.children.length === 1 && at.children[0]!.count === at.count) {
    at = at.children[0]!
    level += separator + at.level
  }
  return { level, count: at.count, rate: at.rate, children: at.children }
}

/** All topics of a publication by their levels, with how many lie under each. */
export function TopicTree({ nodes, separator }: { nodes: readonly TopicNode[]; separator: string }) {
  const [turned, setTurned] = useState<ReadonlySet<string>>(new Set())
  let lines = 0
  const branch = (list: readonly TopicNode[], prefix: string, depth: number) => (
    <ul
      role={depth === 0 ? 'tree' : 'group'}
      aria-label={depth === 0 ? 'Topics' : undefined}
      className={depth === 0 ? '' : 'border-l border-line pl-3'}
    >
      {list
        .map((n) => folded(n, separator))
        .map((n) => {
          const id = `${prefix}/${n.level}`
          lines++
          const open = n.children.length > 0 && (lines + n.children.length <= OPEN || depth === 0) !== turned.has(id)
          return (
            <li key={id} role="treeitem" aria-expanded={n.children.length > 0 ? open : undefined} aria-label={n.level}>
              <button
                type="button"
                disabled={n.children.length === 0}
                onClick={() => {
                  const next = new Set(turned)
                  if (!next.delete(id)) next.add(id)
                  setTurned(next)
                }}
                className="flex h-[22px] w-full items-center gap-1 text-left font-mono text-[12.5px] enabled:hover:bg-well"
              >
                <span className="w-3.5 shrink-0 text-muted">
                  {n.children.length > 0 && (open ? <ChevronDown size={12} /> : <ChevronRight size={12} />)}
                </span>
                <span className="truncate">{n.level}</span>
                <span className="ml-auto flex shrink-0 gap-3 text-[12px] text-muted">
                  {n.count > 1 && <span>{countText(n.count)}</span>}
                  <span className="w-16 text-right">{n.rate === null ? '' : `${rateText(n.rate)}/s`}</span>
                </span>
              </button>
              {open && branch(n.children, id, depth + 1)}
            </li>
          )
        })}
    </ul>
  )
  return <div className="max-h-72 overflow-auto rounded-sm border border-line bg-paper px-2 py-1">{branch(nodes, '', 0)}</div>
}
