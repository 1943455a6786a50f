import { useDraggable } from '@dnd-kit/core'
import { useVirtualizer } from '@tanstack/react-virtual'
import { useDeferredValue, useMemo, useRef, useState } from 'react'
import type { Tag } from '~/contract/tag'
import { rankTags } from '~/core/equipment/matching'
import { FilterBox } from '~/ui/Field'

const MOST = 2000

/** Tags to drag onto members. */
export function TagShelf({ tags, used }: { tags: readonly Tag[]; used: ReadonlySet<string> }) {
  const [words, setWords] = useState('')
  const wanted = useDeferredValue(words)
  const found = useMemo(() => (wanted.trim() ? rankTags(wanted, tags, MOST) : tags.slice(0, MOST)), [wanted, tags])
  const box = useRef<HTMLDivElement>(null)
  const virtual = useVirtualizer({ count: found.length, getScrollElement: () => box.current, estimateSize: () => 26, overscan: 10 })
  return (
    <div className="flex h-full min-h-0 flex-col">
      <div className="px-2 pb-1.5">
        <FilterBox value={words} onChange={setWords} placeholder="filter tags" width="w-full" />
      </div>
      <div ref={box} className="min-h-0 flex-1 overflow-auto">
        {found.length === 0 && <p className="px-3 text-muted">No tag is called so.</p>}
        <div className="relative" style={{ height: virtual.getTotalSize() }}>
          {virtual.getVirtualItems().map((i) => (
            <div key={found[i.index]!.id} className="absolute left-0 w-full" style={{ height: 26, transform: `translateY(${i.start}px)` }}>
              <Shelved tag={found[i.index]!} used={used.has(found[i.index]!.id)} />
            </div>
          ))}
        </div>
        {found.length === MOST && <p className="px-3 py-1 text-xs text-muted">The first 2,000: filter to see others.</p>}
      </div>
    </div>
  )
}

function Shelved({ tag, used }: { tag: Tag; used: boolean }) {
  const drag = useDraggable({ id: `tag ${tag.id}`, data: { tag } })
  return (
    <div
      ref={drag.setNodeRef}
      {...drag.listeners}
      data-tag={tag.name}
      className={`flex h-[26px] cursor-grab items-center gap-2 px-3 hover:bg-well ${drag.isDragging ? 'opacity-50' : ''}`}
      title={`${tag.name}${used ? ', fills a member already' : ''}`}
    >
      <span className={`min-w-0 flex-1 truncate text-left text-[13px] ${used ? 'text-muted' : ''}`} dir="rtl">
        <bdi>{tag.name}</bdi>
      </span>
      <span className="shrink-0 text-xs text-muted">{tag.unit}</span>
    </div>
  )
}
