import { Filter, Plus } from 'lucide-react'
import { useCallback, useDeferredValue, useEffect, useMemo, useState } from 'react'
import type { Tag } from '~/contract/tag'
import { columnsOf } from '~/core/tag/plan'
import type { ViewQuery } from '~/core/tag/view'
import { Button } from '~/ui/Button'
import { Menu } from '~/ui/Menu'
import { Loading } from '~/ui/Notes'
import { ThreeParts } from '~/ui/Parts'
import { countText } from '~/ui/time'
import { go, useInAddress, useTextInAddress } from '../app/address'
import { useMay } from '../app/caller'
import { Row } from '../app/Frame'
import { Failed } from '../shared/Failed'
import { EmptyStation } from '../shared/Onward'
import { UndoButtons, useUndoKeys } from '../shared/UndoButtons'
import { copyTags } from './edit/copying'
import { tagEdits } from './edit/edits'
import { exportKinds, exportLabel, exportTags } from './edit/exporting'
import { type OpenDialog, TagDialogs } from './TagDialogs'
import { kindLabels, TagFolders } from './TagFolders'
import { TagPeek } from './TagPeek'
import { ColumnChoice } from './TagTools'
import { TagTable } from './table/TagTable'
import { useColumns } from './table/useColumns'
import { addressOf, everything, isFiltered, queryOf } from './tag-address'
import { useTagView } from './useTags'
import { ViewBar } from './ViewBar'

export function TagsPage() {
  const mayEdit = useMay('engineer')
  const [query, setQuery] = useInAddress(queryOf, addressOf)
  const [cursor, setCursor] = useTextInAddress('tag')
  const [selected, setSelected] = useState<Set<string>>(() => new Set(cursor ? [cursor] : []))
  const [showFilters, setShowFilters] = useState(false)
  const [open, setOpen] = useState<OpenDialog | null>(null)
  const columns = useColumns()
  // Typing stays quick while 50,000 rows are looked through.
  const view = useTagView(useDeferredValue(query), cursor !== null)
  const { tags, rows, around, plain } = view
  useUndoKeys(tagEdits, mayEdit)

  const put = useCallback((change: Partial<ViewQuery>) => setQuery((q) => ({ ...q, ...change })), [setQuery])
  const all = view.whole ? tags.data : undefined
  const byId = useMemo(() => new Map((all ?? []).map((t) => [t.id, t])), [all])
  const chosen = useMemo(() => [...selected].flatMap((id) => byId.get(id) ?? []), [byId, selected])
  // Going through the table by keyboard is not held up by the peek: it follows where one stays.
  const settled = useSettled(cursor, 120)
  const pointed = settled === null ? undefined : byId.get(settled)
  const filtered = isFiltered(query)
  const showAll = useCallback(() => setQuery((q) => ({ ...everything, sort: q.sort })), [setQuery])
  const left = useMemo(
    () => ({
      onKind: (kind: ViewQuery['kind']) => put({ kind }),
      onFolder: (folder: string | null) => put({ folder }),
      onMove: (folder: string) => setOpen({ what: 'move', moved: { folder } }),
      onKeep: (folder: string) => setOpen({ what: 'keep', folder }),
    }),
    [put],
  )
  const onSort = useCallback((sort: ViewQuery['sort']) => put({ sort }), [put])
  const onFilter = useCallback((column: string, text: string) => setQuery((q) => ({ ...q, filters: { ...q.filters, [column]: text } })), [setQuery])

  const remove = async () => {
    const label = chosen.length === 1 ? `${chosen[0]!.name} removed` : `${countText(chosen.length)} tags removed`
    if (await tagEdits.tell({ remove: chosen.map((t) => ({ id: t.id, version: t.version })) }, label)) setSelected(new Set())
  }
  const copy = (copied: readonly Tag[], keys: readonly string[]) => void copyTags(copied, keys, around, view.states)
  const paste = (text: string, at: { row: number; columns: readonly string[] }) => {
    if (text.trim() === '') return
    const lines = text.replace(/\r?\n$/, '').split(/\r?\n/)
    if (lines.length > 1 && columnsOf(lines[0]!.split('\t')).some((p) => p >= 0))
      return setOpen({ what: 'import', brought: { name: 'pasted cells', text } })
    // Bare cells go where the cursor stands; one cell goes to all that is chosen.
    const cells = lines.map((l) => l.split('\t'))
    const single = cells.length === 1 && cells[0]!.length === 1
    const to = single && chosen.length > 1 ? chosen : rows.slice(at.row, at.row + cells.length)
    const heading = ['id', ...at.columns.slice(0, Math.max(...cells.map((c) => c.length)))]
    setOpen({
      what: 'import',
      brought: { name: 'pasted cells', heading, rows: to.map((t, i) => ({ line: i + 1, cells: [t.id, ...(single ? cells[0]! : cells[i]!)] })) },
    })
  }
  const add = (
    <Button kind="main" disabled={!mayEdit} title={mayEdit ? '' : 'Needs the role engineer'} onClick={() => go('/sources/browse')}>
      <Plus size={14} /> Add tags
    </Button>
  )
  const bring = (
    <Button disabled={!mayEdit} onClick={() => setOpen({ what: 'import', brought: null })}>
      Import
    </Button>
  )
  const nothing = (
    <div className="p-6 text-center text-muted">
      {query.kind !== null && !query.words && !filtered ? `No tag is ${kindLabels[query.kind].label.toLowerCase()}.` : 'No tag fits.'}{' '}
      <button type="button" className="text-slate underline" onClick={showAll}>
        Show all
      </button>
    </div>
  )
  return (
    <>
      <Row station="tags" page="Table">
        <ChosenActs chosen={chosen} mayEdit={mayEdit} onOpen={setOpen} onRemove={() => void remove()} />
        <UndoButtons edits={tagEdits} mayEdit={mayEdit} />
        <Menu
          head={selected.size > 1 ? `${countText(selected.size)} chosen tags` : `${countText(rows.length)} tags, as shown`}
          items={exportKinds.map((kind) => ({
            label: exportLabel[kind],
            onSelect: () => void exportTags(selected.size > 1 ? chosen : rows, plain, kind),
          }))}
        >
          <Button disabled={!all}>Export</Button>
        </Menu>
        {bring}
        <Button disabled={!mayEdit} onClick={() => setOpen({ what: 'lay' })}>
          Patterns
        </Button>
        {add}
      </Row>
      <ThreeParts
        id="tags"
        left={
          <TagFolders
            total={all?.length ?? null}
            counts={view.counts}
            known={view.statesKnown}
            folders={view.folders}
            kind={query.kind}
            folder={query.folder}
            mayEdit={mayEdit}
            onAll={showAll}
            {...left}
          />
        }
        peek={
          pointed && (
            <TagPeek
              key={pointed.id}
              tag={pointed}
              source={view.sources.data?.find((s) => s.id === pointed.sourceId)}
              mayEdit={mayEdit}
              around={view.ready ? around : null}
            />
          )
        }
      >
        {tags.error ? (
          <Failed of={tags} />
        ) : all && all.length === 0 ? (
          <EmptyStation
            needs="engineer"
            title="No tags yet"
            action={
              <span className="flex gap-2">
                {add}
                {bring}
              </span>
            }
          >
            Browse a source and choose the nodes whose values you want to send, or bring in a table of them.
          </EmptyStation>
        ) : (
          <>
            <ViewBar query={query} put={put} view={view} onOpen={setOpen}>
              <Button small aria-pressed={showFilters || filtered} onClick={() => setShowFilters(!showFilters)} title="A filter for each column">
                <Filter size={12} /> Filters
              </Button>
              <ColumnChoice columns={columns} />
            </ViewBar>
            {/* The filter stays under the hands of who types while the rest comes. */}
            {tags.isPending ? (
              <Loading rows={14} />
            ) : (
              <TagTable
                rows={rows}
                around={around}
                columns={columns}
                mayEdit={mayEdit && view.ready}
                selected={selected}
                onSelect={setSelected}
                cursor={cursor}
                onCursor={setCursor}
                sort={query.sort}
                onSort={onSort}
                filters={query.filters}
                onFilter={onFilter}
                showFilters={showFilters || filtered}
                onCopy={copy}
                onPaste={paste}
                onRemove={() => void remove()}
                empty={nothing}
              />
            )}
          </>
        )}
      </ThreeParts>
      {open && all && view.ready && <TagDialogs open={open} tags={all} around={around} plain={plain} onOpen={setOpen} />}
    </>
  )
}

/** A value once it has stayed the same for some ms. */
function useSettled<T>(value: T, ms: number): T {
  const [settled, setSettled] = useState(value)
  useEffect(() => {
    const timer = setTimeout(() => setSettled(value), ms)
    return () => clearTimeout(timer)
  }, [value, ms])
  return settled
}

interface ActsProps {
  chosen: readonly Tag[]
  mayEdit: boolean
  onOpen(dialog: OpenDialog): void
  onRemove(): void
}

/** What can be done with the chosen tags. */
function ChosenActs({ chosen, mayEdit, onOpen, onRemove }: ActsProps) {
  if (chosen.length === 0) return null
  return (
    <>
      <span className="text-muted" data-chosen>
        {countText(chosen.length)} chosen
      </span>
      {chosen.length > 1 && (
        <Button disabled={!mayEdit} onClick={() => onOpen({ what: 'mass', chosen })}>
          Edit {countText(chosen.length)}
        </Button>
      )}
      <Button disabled={!mayEdit} onClick={() => onOpen({ what: 'move', moved: { tags: [...chosen] } })}>
        {chosen.length === 1 ? 'Rename' : 'Move'}
      </Button>
      <Button disabled={!mayEdit} onClick={onRemove}>
        Remove
      </Button>
    </>
  )
}
