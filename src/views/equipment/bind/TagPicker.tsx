import { useMemo, useState } from 'react'
import type { Tag } from '~/contract/tag'
import { rankTags } from '~/core/equipment/matching'
import { formatValue } from '~/core/value/format'
import { Glyph } from '~/ui/Glyph'
import { useLiveValue, useWatch } from '../../app/live/live'
import { valueGlyph } from '../../tags/quality'

/** Tags that may fill a member: those that fit its name first; arrows and Enter pick. */
export function TagPicker({
  label,
  query: first,
  tags,
  onPick,
  onClose,
}: {
  label: string
  query: string
  tags: readonly Tag[]
  onPick(t: Tag): void
  onClose(): void
}) {
  const [query, setQuery] = useState('')
  const [at, setAt] = useState(0)
  const found = useMemo(() => {
    const list = rankTags(query || first, tags, 8)
    return list.length > 0 || query ? list : rankTags('', tags, 8)
  }, [query, first, tags])
  useWatch({ tags: found.map((t) => t.handle) })
  return (
    <div className="max-w-md">
      <input
        ref={(el) => el?.focus({ preventScroll: true })}
        aria-label={`Tag for ${label}`}
        placeholder="part of a tag's name"
        value={query}
        className="field w-full"
        onChange={(e) => {
          setQuery(e.target.value)
          setAt(0)
        }}
        onKeyDown={(e) => {
          if (e.key === 'Escape') onClose()
          else if (e.key === 'Enter' && found[at]) onPick(found[at])
          else if (e.key === 'ArrowDown') setAt(Math.min(found.length - 1, at + 1))
          else if (e.key === 'ArrowUp') setAt(Math.max(0, at - 1))
          else return
          e.preventDefault()
        }}
      />
      <ul className="mt-1 rounded-sm border border-line bg-sheet" aria-label="Tags that may fit">
        {found.length === 0 && <li className="px-2 py-1 text-muted">No tag of that name.</li>}
        {found.map((t, i) => (
          <li key={t.id}>
            <button
              type="button"
              onClick={() => onPick(t)}
              className={`flex w-full items-center gap-2 px-2 py-[3px] text-left ${i === at ? 'bg-wash' : 'hover:bg-well'}`}
            >
              <span className="min-w-0 flex-1 truncate">{t.name}</span>
              <PickedNow tag={t} />
            </button>
          </li>
        ))}
      </ul>
    </div>
  )
}

function PickedNow({ tag }: { tag: Tag }) {
  const v = useLiveValue(tag.handle)
  return (
    <span className="flex shrink-0 items-center gap-1.5 font-mono text-[12px] text-muted">
      {v ? formatValue(v[1], tag) : '-'} {tag.unit}
      <Glyph state={valueGlyph(v)} />
    </span>
  )
}
