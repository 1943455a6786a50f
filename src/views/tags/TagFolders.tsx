import { EllipsisVertical } from 'lucide-react'
import { memo, useMemo, useState } from 'react'
import { type Folder, type QuickKind, quickKinds } from '~/core/tag/view'
import { Glyph, type GlyphState } from '~/ui/Glyph'
import { Menu } from '~/ui/Menu'
import { PickFigure, PickRow } from '~/ui/PickRow'
import { countText } from '~/ui/time'
import { type TreeRow, VirtualTree } from '../shared/VirtualTree'

export const kindLabels: Record<QuickKind, { label: string; help: string; glyph: GlyphState | null }> = {
  bad: { label: 'Bad', help: 'No usable value: the reason stands in the column Quality', glyph: 'bad' },
  uncertain: { label: 'Uncertain', help: 'A value with a doubt: stale, initial, simulated, beyond its range', glyph: 'uncertain' },
  range: { label: 'Out of range', help: 'A value beyond the range that was set for it', glyph: null },
  stale: { label: 'Stale', help: 'The value is an old one: its device has fallen silent', glyph: null },
  never: { label: 'Never seen', help: 'No value has come since the engine started', glyph: 'idle' },
  still: { label: 'Not changing', help: 'The same value for more than ten minutes', glyph: null },
  simulated: { label: 'Simulated', help: 'Made up, by the tag or by its source', glyph: null },
  unused: { label: 'Unused', help: 'No equipment has a member filled by it', glyph: null },
}

interface Row extends TreeRow {
  folder: Folder | null
  count: number
}

/** What stands out, and the tree of folders. */
export const TagFolders = memo(function TagFolders({
  total,
  counts,
  known,
  folders,
  kind,
  folder,
  mayEdit,
  onKind,
  onFolder,
  onAll,
  onMove,
  onKeep,
}: {
  /** null: not all tags are there yet. */
  total: number | null
  counts: Record<QuickKind, number>
  /** Whether values are known by now. */
  known: boolean
  folders: readonly Folder[]
  kind: QuickKind | null
  folder: string | null
  mayEdit: boolean
  onKind(k: QuickKind | null): void
  onFolder(path: string | null): void
  onAll(): void
  onMove(path: string): void
  onKeep(path: string): void
}) {
  // Small trees stand open, large ones begin with their first level.
  const [turned, setTurned] = useState<ReadonlySet<string>>(new Set())
  const openAtFirst = folders.length <= 60
  const rows = useMemo(() => {
    const out: Row[] = []
    let closedUnder: string | null = null
    const top = (total ?? 0) - folders.filter((f) => f.depth === 0).reduce((n, f) => n + f.tags, 0)
    if (top > 0 && folders.length > 0) out.push({ id: '', depth: 0, label: 'In no folder', open: null, ticked: null, folder: null, count: top })
    for (const f of folders) {
      if (closedUnder !== null && f.path.startsWith(closedUnder)) continue
      closedUnder = null
      const open = turned.has(f.path) !== openAtFirst
      out.push({ id: f.path, depth: f.depth, label: f.name, open: f.below ? open : null, ticked: null, folder: f, count: f.tags })
      if (f.below && !open) closedUnder = `${f.path}/`
    }
    return out
  }, [folders, turned, openAtFirst, total])
  const quick = (chosen: boolean, label: string, count: number | null, glyph: GlyphState | null, onClick: () => void, help = '') => (
    <PickRow key={label} picked={chosen} onPick={onClick} title={help} faint={count === 0}>
      <span className="w-[14px]">{glyph && count !== 0 && <Glyph state={glyph} />}</span>
      <span className="truncate">{label}</span>
      <PickFigure>{count === null ? '' : countText(count)}</PickFigure>
    </PickRow>
  )
  return (
    <div className="flex h-full flex-col">
      <ul aria-label="What stands out" className="shrink-0">
        {quick(kind === null && folder === null, 'All tags', total, null, onAll)}
        {quickKinds.map((k) => {
          const { label, help, glyph } = kindLabels[k]
          const count = total !== null && (known || k === 'simulated' || k === 'unused') ? counts[k] : null
          return quick(kind === k, label, count, glyph, () => onKind(kind === k ? null : k), help)
        })}
      </ul>
      <div className="mx-3 my-1.5 shrink-0 border-t border-line" />
      <VirtualTree
        label="Folders"
        rows={rows}
        onToggle={(row) => {
          const next = new Set(turned)
          if (!next.delete(row.id)) next.add(row.id)
          setTurned(next)
        }}
        chosen={folder}
        onTick={() => undefined}
        onCursor={(row) => onFolder(row.id === folder ? null : row.id)}
      >
        {(row: Row) => (
          <>
            <span className={`truncate ${row.folder ? '' : 'text-muted'} ${folder === row.id ? 'font-semibold text-slate' : ''}`} title={row.id}>
              {row.label}
            </span>
            <span className="ml-auto font-mono text-[12px] text-muted">{countText(row.count)}</span>
            {row.folder && (
              <Menu
                align="start"
                items={[
                  { label: 'Rename or move', onSelect: () => onMove(row.id) },
                  { label: 'Make a pattern of it', onSelect: () => onKeep(row.id) },
                ]}
              >
                <button
                  type="button"
                  aria-label={`Folder ${row.id}`}
                  disabled={!mayEdit}
                  onClick={(e) => e.stopPropagation()}
                  className="grid size-[18px] shrink-0 place-items-center rounded-sm opacity-0 group-hover:opacity-100 hover:bg-well focus-visible:opacity-100 disabled:hidden data-[state=open]:opacity-100"
                >
                  <EllipsisVertical size={13} />
                </button>
              </Menu>
            )}
          </>
        )}
      </VirtualTree>
    </div>
  )
})
