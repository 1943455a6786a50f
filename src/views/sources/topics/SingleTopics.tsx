import { useMemo, useState } from 'react'
import type { HeardTopic } from '~/contract/sources/mqtt'
import { Button } from '~/ui/Button'
import { VirtualTree } from '../../shared/VirtualTree'
import { carriedKind, carriedWords } from './heard-families'
import { leavesOfTopic, type TopicLeaf, topicRows } from './topic-tree'

interface Props {
  topics: ReadonlyMap<string, HeardTopic>
  words: string
  picked: ReadonlyMap<string, TopicLeaf>
  taken: ReadonlyMap<string, string>
  pick(leaves: readonly TopicLeaf[], on: boolean): void
  onTopic(topic: string): void
}

/** Every topic by itself, as the tree of its levels. */
export function SingleTopics({ topics, words, picked, taken, pick, onTopic }: Props) {
  const [closed, setClosed] = useState<ReadonlySet<string>>(new Set())
  const rows = useMemo(() => topicRows(topics, closed, words, picked, taken), [topics, closed, words, picked, taken])
  const underOf = (path: string) => [...topics.values()].filter((t) => t.topic === path || t.topic.startsWith(`${path}/`)).flatMap(leavesOfTopic)
  const toggle = (id: string) => {
    const next = new Set(closed)
    if (!next.delete(id)) next.add(id)
    setClosed(next)
  }
  return (
    <VirtualTree
      label="Topics"
      rows={rows}
      onToggle={(r) => toggle(r.id)}
      onTick={(r, on) => r.leaf && pick([r.leaf], on)}
      onCursor={(r) => r.heard && onTopic(r.heard.topic)}
      empty={<p className="p-4 text-muted">No topic fits the filter.</p>}
    >
      {(r) => (
        <>
          <span className={`truncate ${r.leaf ? '' : 'font-semibold'}`}>{r.label}</span>
          {r.leaf && taken.has(r.leaf.address) && <span className="truncate text-xs text-muted">is {taken.get(r.leaf.address)}</span>}
          <span className="ml-auto flex items-center gap-2">
            {r.leaf ? (
              <span className="max-w-40 truncate font-mono text-xs text-muted">
                {r.leaf.value} {r.leaf.unit}
              </span>
            ) : (
              <>
                {r.heard && <span className="text-xs text-muted">{carriedWords[carriedKind(r.heard)]}</span>}
                <Button
                  small
                  kind="quiet"
                  tabIndex={-1}
                  className="opacity-0 group-hover:opacity-100 focus:opacity-100"
                  aria-label={`Take all under ${r.label}`}
                  onClick={() => pick(underOf(r.id), true)}
                >
                  take all {r.under}
                </Button>
              </>
            )}
          </span>
        </>
      )}
    </VirtualTree>
  )
}
