import { useEffect, useState } from 'react'
import { useKept } from '../../shared/kept'
import type { TopicLeaf } from './topic-tree'

interface Draft {
  leaves: TopicLeaf[]
}

/** The leaves that are to become tags of one source: they outlive leaving the page. */
export function usePicked(sourceId: string, taken: ReadonlyMap<string, string>) {
  const { found, keep } = useKept<Draft>(`topics ${sourceId}`, { leaves: [] })
  const [picked, setPicked] = useState<ReadonlyMap<string, TopicLeaf>>(() => mapOf(found?.draft.leaves ?? []))
  useEffect(() => keep(picked.size > 0 ? { draft: { leaves: [...picked.values()] }, version: null } : null), [picked, keep])
  return {
    picked,
    clear: () => setPicked(new Map()),
    pick: (leaves: readonly TopicLeaf[], on: boolean) =>
      setPicked((old) => {
        const next = new Map(old)
        for (const leaf of leaves) {
          if (on && !taken.has(leaf.address)) next.set(leaf.address, leaf)
          else next.delete(leaf.address)
        }
        return next
      }),
  }
}

const mapOf = (leaves: readonly TopicLeaf[]) => new Map(leaves.map((leaf) => [leaf.address, leaf]))
