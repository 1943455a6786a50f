import { Columns3, Filter, Plus, Redo2, Undo2 } from 'lucide-react'
import { DropdownMenu, Popover } from 'radix-ui'
import { useCallback, useDeferredValue, useEffect, useMemo, useState } from 'react'
import { toast } from 'sonner'
import type { Caller } from '~/contract/person'
import type { Tag } from '~/contract/tag'
import { flatten, tagColumns } from '~/core/tag/columns'
import { columnsOf } from '~/core/tag/plan'
import { writeText } from '~/core/tag/sheet'
import type { ViewQuery } from '~/core/tag/view'
import { Button } from '~/ui/Button'
import { FilterBox } from '~/ui/Field'
import { Empty, Loading, ProblemNote } from '~/ui/Notes'
import { ThreeParts } from '~/ui/Parts'
import { countText } from '~/ui/time'
import { failureIn } from '../app/api'
import { useMay } from '../app/caller'
import { Frame, Row } from '../app/Frame'
import { editAndTell, redo, undo, useEdits } from './edit/edits'
import { GroupsDialog } from './edit/GroupsDialog'
import { type Brought, ImportDialog } from './edit/ImportDialog'
import { MassEdit } from './edit/MassEdit'
import { MoveDialog, type Moved } from './edit/MoveDialog'
import { writeInWorker } from './edit/planning'
import { KeepTemplate, LayDown } from './edit/TemplateDialogs'
import { kindLabels, TagFolders } from './TagFolders'
import { TagPeek } from './TagPeek'
import { gridColumns } from './table/columns'
import { TagTable } from './table/TagTable'
import { type Columns, useColumns } from './table/useColumns'
import { useTagView } from './useTags'

export function TagsPage({ caller }: { caller: Caller }) {
  return (
    <Frame caller={caller} station="tags" page="Table">
      <Tags />
    </Frame>
  )
}

const asked = () => new URLSearchParams(location.search)
const everything: ViewQuery = { words: '', folder: null, sourceId: null, kind: null, filters: {}, sort: null }

type Open =
  | { what: 'import'; brought: Brought | null }
  | { what: 'mass'; chosen: readonly Tag[] }
  | { what: 'move'; moved: Moved }
  | { what: 'keep'; folder: string }
  | { what: 'lay' }
  | { what: 'groups' }

function Tags() {
  const mayEdit = useMay('engineer')
  const [query, setQuery] = useState<ViewQuery>(() => ({ ...everything, sourceId: asked().get('source') }))
  const [cursor, setCursor] = useState<string | null>(() => asked().get('tag'))
  const [selected, setSelected] = useState<Set<string>>(() => new Set(asked().get('tag') ? [asked().get('tag')!] : []))
  const [showFilters, setShowFilters] = useState(false)
  const [open, setOpen] = useState<Open | null>(null)
  const columns = useColumns()
  // Typing stays quick while 50,000 rows are looked through.
  const view = useTagView(useDeferredValue(query))
  const { tags, rows, list, around, plain } = view
  useUndoKeys(mayEdit)

  const put = useCallback((change: Partial<ViewQuery>) => setQuery((q) => ({ ...q, ...change })), [])
  const all = tags.data
  const byId = useMemo(() => new Map((all ?? []).map((t) => [t.id, t])), [all])
  const chosen = useMemo(() => [...selected].flatMap((id) => byId.get(id) ?? []), [byId, selected])
  // Going through the table by keyboard is not held up by the peek: it follows where one stays.
  const settled = useSettled(cursor, 120)
  const pointed = settled === null ? undefined : byId.get(settled)
  const filtered = Object.values(query.filters).some((f) => f.trim() !== '')
  const showAll = useCallback(() => setQuery((q) => ({ ...everything, sort: q.sort })), [])
  const close = () => setOpen(null)
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
  const onFilter = useCallback((column: string, text: string) => setQuery((q) => ({ ...q, filters: { ...q.filters, [column]: text } })), [])

  const remove = async () => {
    const label = chosen.length === 1 ? `${chosen[0]!.name} removed` : `${countText(chosen.length)} tags removed`
    if (await editAndTell({ remove: chosen.map((t) => ({ id: t.id, version: t.version })) }, label)) setSelected(new Set())
  }
  const copy = (copied: readonly Tag[], keys: readonly string[]) => {
    const text = writeText(
      copied.map((t) => flatten(t, around)),
      keys,
      { separator: '\t', decimal: '.' },
    )
    void navigator.clipboard.writeText(text).then(
      () => toast(`${countText(copied.length)} ${copied.length === 1 ? 'tag' : 'tags'} copied`),
      () => toast.error('The browser does not let the page write to the clipboard', { description: 'Export to a file instead' }),
    )
  }
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
  const exportAs = async (how: 'CSV' | 'CSV with semicolons' | 'XLSX') => {
    const some = selected.size > 1 ? chosen : rows
    const keys = tagColumns.map((c) => c.key)
    const id = toast.loading(`Writing ${countText(some.length)} tags`)
    try {
      const made = await writeInWorker(
        {
          do: 'write',
          columns: keys,
          how: how === 'XLSX' ? 'XLSX' : how === 'CSV' ? { separator: ',', decimal: '.' } : { separator: ';', decimal: ',' },
        },
        some,
        plain,
      )
      const type = how === 'XLSX' ? 'application/vnd.openxmlformats-officedocument.spreadsheetml.sheet' : 'text/csv;charset=utf-8'
      // With its mark, spreadsheets take it for UTF-8.
      const blob = new Blob(how === 'XLSX' ? [made as BlobPart] : ['\ufeff', made as string], { type })
      const link = document.createElement('a')
      link.href = URL.createObjectURL(blob)
      link.download = how === 'XLSX' ? 'tags.xlsx' : 'tags.csv'
      link.click()
      setTimeout(() => URL.revokeObjectURL(link.href), 10_000)
      toast(`${countText(some.length)} tags written to ${link.download}`, { id })
    } catch (e) {
      toast.error(failureIn(e).message, { id })
    }
  }

  const add = (
    <Button kind="main" disabled={!mayEdit} title={mayEdit ? '' : 'Needs the role engineer'} onClick={() => location.assign('/sources/browse')}>
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
        {selected.size > 0 && (
          <>
            <span className="text-muted" data-chosen>
              {countText(selected.size)} chosen
            </span>
            {selected.size > 1 && (
              <Button disabled={!mayEdit} onClick={() => setOpen({ what: 'mass', chosen })}>
                Edit {countText(selected.size)}
              </Button>
            )}
            <Button disabled={!mayEdit} onClick={() => setOpen({ what: 'move', moved: { tags: chosen } })}>
              {selected.size === 1 ? 'Rename' : 'Move'}
            </Button>
            <Button disabled={!mayEdit} onClick={() => void remove()}>
              Remove
            </Button>
          </>
        )}
        <UndoButtons mayEdit={mayEdit} />
        <DropdownMenu.Root>
          <DropdownMenu.Trigger asChild>
            <Button disabled={!all}>Export</Button>
          </DropdownMenu.Trigger>
          <DropdownMenu.Portal>
            <DropdownMenu.Content
              align="end"
              sideOffset={4}
              className="z-40 min-w-56 rounded-sm border border-line bg-sheet py-1 shadow-[0_6px_24px_rgb(0_0_0/0.18)]"
            >
              <DropdownMenu.Label className="px-3 py-1 text-xs text-muted">
                {selected.size > 1 ? `${countText(selected.size)} chosen tags` : `${countText(rows.length)} tags, as shown`}
              </DropdownMenu.Label>
              {(['CSV', 'CSV with semicolons', 'XLSX'] as const).map((how) => (
                <DropdownMenu.Item
                  key={how}
                  onSelect={() => void exportAs(how)}
                  className="cursor-default px-3 py-1 outline-none data-[highlighted]:bg-wash"
                >
                  {how === 'CSV with semicolons' ? 'CSV with semicolons and decimal commas' : how}
                </DropdownMenu.Item>
              ))}
            </DropdownMenu.Content>
          </DropdownMenu.Portal>
        </DropdownMenu.Root>
        {bring}
        <Button disabled={!mayEdit} onClick={() => setOpen({ what: 'lay' })}>
          Templates
        </Button>
        {add}
      </Row>
      <ThreeParts
        id="tags"
        left={
          <TagFolders
            total={all?.length ?? 0}
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
              around={around}
            />
          )
        }
      >
        {tags.isPending ? (
          <Loading rows={14} />
        ) : tags.error ? (
          <div className="p-4">
            <ProblemNote problem={failureIn(tags.error)} action={<Button onClick={() => void tags.refetch()}>Try again</Button>} />
          </div>
        ) : all && all.length === 0 ? (
          <Empty
            title="No tags yet"
            action={
              <span className="flex gap-2">
                {add}
                {bring}
              </span>
            }
          >
            Browse a source and choose the nodes whose values you want to send, or bring in a table of them.
          </Empty>
        ) : (
          <>
            <div className="flex shrink-0 items-center gap-2 border-b border-line px-2.5 py-[6px]">
              <FilterBox value={query.words} onChange={(words) => put({ words })} placeholder="filter names, units, addresses" />
              <Button small aria-pressed={showFilters || filtered} onClick={() => setShowFilters(!showFilters)} title="A filter for each column">
                <Filter size={12} /> Filters
              </Button>
              {query.folder !== null && <Chip label={query.folder || 'in no folder'} onClear={() => put({ folder: null })} />}
              {query.kind !== null && <Chip label={kindLabels[query.kind].label} onClear={() => put({ kind: null })} />}
              {query.sourceId !== null && (
                <Chip
                  label={`from ${view.sources.data?.find((s) => s.id === query.sourceId)?.name ?? 'a source that is gone'}`}
                  onClear={() => put({ sourceId: null })}
                />
              )}
              {filtered && <Chip label="columns" onClear={() => put({ filters: {} })} />}
              <span className="ml-auto font-mono text-[12px] whitespace-nowrap text-muted">
                {rows.length === list.tags.length ? `${countText(rows.length)} tags` : `${countText(rows.length)} of ${countText(list.tags.length)}`}
              </span>
              <Button small onClick={() => setOpen({ what: 'groups' })} title="Rates with names">
                Groups
              </Button>
              <ColumnChoice columns={columns} />
            </div>
            <TagTable
              rows={rows}
              around={around}
              columns={columns}
              mayEdit={mayEdit}
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
          </>
        )}
      </ThreeParts>
      {open?.what === 'import' && all && (
        <ImportDialog brought={open.brought} onBring={(brought) => setOpen({ what: 'import', brought })} onClose={close} tags={all} around={plain} />
      )}
      {open?.what === 'mass' && all && <MassEdit chosen={open.chosen} tags={all} around={around} plain={plain} onClose={close} />}
      {open?.what === 'move' && all && <MoveDialog moved={open.moved} tags={all} plain={plain} onClose={close} />}
      {open?.what === 'keep' && all && <KeepTemplate folder={open.folder} tags={all} around={around} onClose={close} />}
      {open?.what === 'lay' && all && <LayDown tags={all} plain={plain} onClose={close} />}
      {open?.what === 'groups' && <GroupsDialog onClose={close} />}
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

function UndoButtons({ mayEdit }: { mayEdit: boolean }) {
  const edits = useEdits()
  const last = edits.undo.at(-1)
  const next = edits.redo.at(-1)
  return (
    <>
      <Button
        disabled={!mayEdit || !last || edits.busy}
        onClick={() => void undo()}
        aria-label="Undo"
        title={last ? `Ctrl+Z takes back: ${last.label}` : 'Nothing to take back'}
      >
        <Undo2 size={14} />
      </Button>
      <Button
        disabled={!mayEdit || !next || edits.busy}
        onClick={() => void redo()}
        aria-label="Redo"
        title={next ? `Ctrl+Y does again: ${next.label}` : 'Nothing to do again'}
      >
        <Redo2 size={14} />
      </Button>
    </>
  )
}

/** Ctrl+Z takes back, Ctrl+Y or Ctrl+Shift+Z does again; not while something is typed, where they belong to the text. */
function useUndoKeys(mayEdit: boolean): void {
  useEffect(() => {
    const onKey = (e: KeyboardEvent) => {
      const typing = e.target instanceof HTMLElement && (e.target.isContentEditable || /^(INPUT|TEXTAREA|SELECT)$/.test(e.target.tagName))
      if (typing || !mayEdit || !(e.ctrlKey || e.metaKey)) return
      const key = e.key.toLowerCase()
      if (key === 'z' && !e.shiftKey) void undo()
      else if (key === 'y' || (key === 'z' && e.shiftKey)) void redo()
      else return
      e.preventDefault()
    }
    window.addEventListener('keydown', onKey)
    return () => window.removeEventListener('keydown', onKey)
  }, [mayEdit])
}

function ColumnChoice({ columns }: { columns: Columns }) {
  return (
    <Popover.Root>
      <Popover.Trigger asChild>
        <Button small title="Which columns are shown">
          <Columns3 size={12} /> Columns
        </Button>
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content
          align="end"
          sideOffset={4}
          className="z-40 w-[380px] rounded-sm border border-line bg-sheet p-2 shadow-[0_6px_24px_rgb(0_0_0/0.18)]"
        >
          <div className="grid grid-cols-2 gap-x-2">
            {gridColumns
              .filter((c) => c.id !== 'name' && c.id !== 'state')
              .map((c) => (
                <label key={c.id} className="flex items-center gap-2 rounded-sm px-1.5 py-[2px] hover:bg-well" title={c.setting?.help}>
                  <input
                    type="checkbox"
                    className="accent-(--clay)"
                    checked={columns.shown(c.id)}
                    onChange={(e) => columns.show(c.id, e.target.checked)}
                  />
                  {c.label}
                </label>
              ))}
          </div>
          <div className="mt-1 flex items-center justify-between border-t border-line pt-1.5">
            <span className="text-xs text-muted">Drag a heading to move it</span>
            <Button small kind="quiet" onClick={columns.reset}>
              As at first
            </Button>
          </div>
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  )
}
