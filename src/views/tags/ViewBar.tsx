import type { ReactNode } from 'react'
import type { ViewQuery } from '~/core/tag/view'
import { Button } from '~/ui/Button'
import { FilterBox } from '~/ui/Field'
import { countText } from '~/ui/time'
import type { OpenDialog } from './TagDialogs'
import { kindLabels } from './TagFolders'
import { isFiltered } from './tag-address'
import type { TagView } from './useTags'

interface Props {
  query: ViewQuery
  put(change: Partial<ViewQuery>): void
  view: TagView
  onOpen(dialog: OpenDialog): void
  /** What changes the columns. */
  children: ReactNode
}

/** What the table is narrowed to, each part of it taken back by a click, and how many rows that leaves. */
export function ViewBar({ query, put, view, onOpen, children }: Props) {
  const { rows, list, whole } = view
  return (
    <div className="flex shrink-0 items-center gap-2 border-b border-line px-2.5 py-[6px]">
      <FilterBox value={query.words} onChange={(words) => put({ words })} placeholder="filter names, units, addresses" />
      {query.folder !== null && <Chip label={query.folder || 'in no folder'} onClear={() => put({ folder: null })} />}
      {query.kind !== null && <Chip label={kindLabels[query.kind].label} onClear={() => put({ kind: null })} />}
      {query.sourceId !== null && <Chip label={sourceText(view, query.sourceId)} onClear={() => put({ sourceId: null })} />}
      {isFiltered(query) && <Chip label="columns" onClear={() => put({ filters: {} })} />}
      <span className="ml-auto font-mono text-[12px] whitespace-nowrap text-muted">
        {!whole
          ? '...'
          : rows.length === list.tags.length
            ? `${countText(rows.length)} tags`
            : `${countText(rows.length)} of ${countText(list.tags.length)}`}
      </span>
      {children}
      <Button small onClick={() => onOpen({ what: 'groups' })} title="Rates with names">
        Groups
      </Button>
    </div>
  )
}

function sourceText({ sources }: TagView, id: string): string {
  if (!sources.data) return 'from a source'
  return `from ${sources.data.find((s) => s.id === id)?.name ?? 'a source that is gone'}`
}

function Chip({ label, onClear }: { label: string; onClear(): void }) {
  return (
    <button
      type="button"
      onClick={onClear}
      className="h-6 max-w-52 truncate rounded-sm border border-slate bg-wash px-2 text-xs text-slate"
      title={`${label}: click to leave it out`}
    >
      {label} ×
    </button>
  )
}
