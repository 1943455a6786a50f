import { Plus } from 'lucide-react'
import { memo, useCallback, useDeferredValue, useEffect, useMemo, useState } from 'react'
import { toast } from 'sonner'
import type { Caller } from '~/contract/person'
import type { Tag } from '~/contract/tag'
import { byName } from '~/core/equipment/hierarchy'
import { displayValue } from '~/core/value/datatype'
import { Button } from '~/ui/Button'
import { type Column, DataTable } from '~/ui/DataTable'
import { FilterBox } from '~/ui/Field'
import { Glyph } from '~/ui/Glyph'
import { Empty, Loading, ProblemNote } from '~/ui/Notes'
import { ThreeParts } from '~/ui/Parts'
import { Sparkline } from '~/ui/Sparkline'
import { ageText, countText, Time, useNow } from '~/ui/time'
import { call, failureIn, refresh, useCall } from '../app/api'
import { useMay } from '../app/caller'
import { Frame, Row } from '../app/Frame'
import { live, useLiveValue, useSpark, useWatch } from '../app/live'
import { valueGlyph, valueReason } from './quality'
import { MadeUp } from './Simulation'
import { TagPeek } from './TagPeek'

export function TagsPage({ caller }: { caller: Caller }) {
  return (
    <Frame caller={caller} station="tags" page="Table">
      <Tags />
    </Frame>
  )
}

const StateCell = memo(function StateCell({ handle }: { handle: number }) {
  const v = useLiveValue(handle)
  return <Glyph state={valueGlyph(v)} title={valueReason(v) || 'no value yet'} />
})

const ValueCell = memo(function ValueCell({ handle, fraction }: { handle: number; fraction: boolean }) {
  const v = useLiveValue(handle)
  const bad = v !== undefined && v[2] >>> 30 === 2
  return <span className={`font-mono text-[13px] ${bad ? 'text-bad' : ''}`}>{v ? displayValue(v[1], fraction) : '-'}</span>
})

const QualityCell = memo(function QualityCell({ handle }: { handle: number }) {
  const v = useLiveValue(handle)
  const reason = valueReason(v)
  return <span className={reason === 'good' ? 'text-muted' : v && v[2] >>> 30 === 2 ? 'text-bad' : 'text-uncertain'}>{reason}</span>
})

const TimeCell = memo(function TimeCell({ handle }: { handle: number }) {
  const v = useLiveValue(handle)
  return v?.[3] ? <Time at={v[3]} /> : <span className="text-muted">-</span>
})

const AgeCell = memo(function AgeCell({ handle }: { handle: number }) {
  const v = useLiveValue(handle)
  const now = useNow()
  return <span className="font-mono text-[12.5px]">{v?.[4] ? ageText(now - v[4]) : '-'}</span>
})

const SparkCell = memo(function SparkCell({ handle }: { handle: number }) {
  const points = useSpark(handle)
  const v = useLiveValue(handle)
  const colour = v === undefined || v[2] >>> 30 === 0 ? 'text-slate' : v[2] >>> 30 === 2 ? 'text-bad' : 'text-uncertain'
  return <Sparkline points={points ?? []} width={106} className={colour} />
})

function Tags() {
  const tags = useCall('listTags')
  const sources = useCall('listSources')
  const mayEdit = useMay('engineer')
  const params = useMemo(() => new URLSearchParams(location.search), [])
  const [filter, setFilter] = useState('')
  const [folder, setFolder] = useState<string | null>(null)
  const [selected, setSelected] = useState<Set<string>>(() => new Set(params.get('tag') ? [params.get('tag')!] : []))
  const [visible, setVisible] = useState<number[]>([])
  const [trouble, setTrouble] = useState(false)
  const [ofSource, setOfSource] = useState(params.get('source'))
  useWatch({ tags: visible, sparks: true })

  const words = useDeferredValue(filter).trim().toLowerCase()
  const all = tags.data
  const folders = useMemo(() => {
    const counts = new Map<string, number>()
    for (const t of all ?? []) {
      const at = t.name.lastIndexOf('/')
      const key = at < 0 ? '' : t.name.slice(0, at)
      counts.set(key, (counts.get(key) ?? 0) + 1)
    }
    return [...counts].sort((a, b) => byName(a[0], b[0]))
  }, [all])
  const rows = useMemo(() => {
    let found = all ?? []
    if (ofSource !== null) found = found.filter((t) => t.sourceId === ofSource)
    if (folder !== null) found = found.filter((t) => (t.name.includes('/') ? t.name.slice(0, t.name.lastIndexOf('/')) : '') === folder)
    if (words) found = found.filter((t) => `${t.name} ${t.unit} ${t.address} ${t.description}`.toLowerCase().includes(words))
    return [...found].sort((a, b) => byName(a.name, b.name))
  }, [all, words, folder, ofSource])
  // What is in trouble changes with the values: looked up when asked for, then every two seconds.
  const bad = useTroubled(trouble ? rows : null)
  const shown = trouble ? rows.filter((t) => bad.has(t.handle)) : rows

  const columns = useMemo<Column<Tag>[]>(
    () => [
      { id: 'state', header: '', width: '34px', cell: (t) => <StateCell handle={t.handle} /> },
      {
        id: 'name',
        header: 'Name',
        width: 'minmax(150px,2.4fr)',
        value: (t) => t.name,
        cell: (t) => (
          <span className="flex items-center gap-1.5" title={`${t.name}\n${t.description}`}>
            <span className="truncate">{t.name}</span>
            <MadeUp tag={t} />
          </span>
        ),
      },
      {
        id: 'value',
        header: 'Value',
        width: '98px',
        align: 'right',
        value: (t) => (live.value(t.handle)?.[1] as string | number | null) ?? null,
        cell: (t) => <ValueCell handle={t.handle} fraction={t.dataType === 'number'} />,
      },
      { id: 'unit', header: 'Unit', width: '52px', value: (t) => t.unit, cell: (t) => <span className="text-muted">{t.unit}</span> },
      {
        id: 'quality',
        header: 'Quality',
        width: 'minmax(76px,1fr)',
        value: (t) => valueReason(live.value(t.handle)),
        cell: (t) => <QualityCell handle={t.handle} />,
      },
      {
        id: 'time',
        header: 'Device time',
        width: '122px',
        align: 'right',
        value: (t) => new Date(live.value(t.handle)?.[3] ?? 0).toISOString(),
        cell: (t) => <TimeCell handle={t.handle} />,
      },
      { id: 'age', header: 'Age', width: '62px', align: 'right', cell: (t) => <AgeCell handle={t.handle} /> },
      { id: 'spark', header: '10 min', width: '124px', cell: (t) => <SparkCell handle={t.handle} /> },
    ],
    [],
  )
  const onVisible = useCallback((now: Tag[]) => setVisible(now.map((t) => t.handle)), [])
  const chosen = all?.find((t) => selected.has(t.id))

  const showAll = () => {
    setFilter('')
    setFolder(null)
    setOfSource(null)
    setTrouble(false)
  }
  const remove = async () => {
    const ids = [...selected]
    const removed = (all ?? []).filter((t) => selected.has(t.id))
    try {
      await call('removeTags', { body: { ids } })
      setSelected(new Set())
      await refresh('listTags', 'listSources')
      toast(`${removed.length === 1 ? removed[0]!.name : `${removed.length} tags`} removed`, {
        action: {
          label: 'Undo',
          onClick: () =>
            void call('addTags', { body: { tags: removed.map(({ id: _i, handle: _h, version: _v, ...draft }) => draft) } }).then(
              () => refresh('listTags', 'listSources'),
              (e: unknown) => toast.error(failureIn(e).message),
            ),
        },
      })
    } catch (e) {
      const f = failureIn(e)
      toast.error(f.message, { description: f.hint })
    }
  }

  const add = (
    <Button kind="main" disabled={!mayEdit} title={mayEdit ? '' : 'Needs the role engineer'} onClick={() => location.assign('/sources/browse')}>
      <Plus size={14} /> Add tags
    </Button>
  )
  return (
    <>
      <Row station="tags" page="Table">
        {selected.size > 0 && (
          <>
            <span className="text-muted">{countText(selected.size)} chosen</span>
            <Button disabled={!mayEdit} onClick={() => void remove()}>
              Remove
            </Button>
          </>
        )}
        {add}
      </Row>
      <ThreeParts
        id="tags"
        left={
          <ul aria-label="Folders">
            <FolderRow label="All tags" count={all?.length ?? 0} chosen={folder === null && !trouble} onClick={showAll} />
            {folders.map(([name, count]) => (
              <FolderRow
                key={name}
                label={name || 'At the top'}
                count={count}
                chosen={folder === name}
                indent
                onClick={() => setFolder(folder === name ? null : name)}
              />
            ))}
            <li className="mx-3 my-2 border-t border-line" />
            <FolderRow label="Not good" glyph count={null} chosen={trouble} onClick={() => setTrouble(!trouble)} />
          </ul>
        }
        peek={chosen && <TagPeek key={chosen.id} tag={chosen} source={sources.data?.find((s) => s.id === chosen.sourceId)} mayEdit={mayEdit} />}
      >
        {tags.isPending ? (
          <Loading rows={14} />
        ) : tags.error ? (
          <div className="p-4">
            <ProblemNote problem={failureIn(tags.error)} action={<Button onClick={() => void tags.refetch()}>Try again</Button>} />
          </div>
        ) : all && all.length === 0 ? (
          <Empty title="No tags yet" action={add}>
            Browse a source and choose the nodes whose values you want to send.
          </Empty>
        ) : (
          <>
            <div className="flex shrink-0 items-center gap-2 border-b border-line px-2.5 py-[6px]">
              <FilterBox value={filter} onChange={setFilter} placeholder="filter names, units, addresses" />
              {folder !== null && (
                <button type="button" onClick={() => setFolder(null)} className="h-6 rounded-sm border border-slate bg-wash px-2 text-xs text-slate">
                  {folder || 'At the top'} ×
                </button>
              )}
              {ofSource !== null && (
                <button
                  type="button"
                  onClick={() => setOfSource(null)}
                  className="h-6 rounded-sm border border-slate bg-wash px-2 text-xs text-slate"
                >
                  from {sources.data?.find((s) => s.id === ofSource)?.name ?? 'a source that is gone'} ×
                </button>
              )}
              <span className="ml-auto font-mono text-[12px] text-muted">
                {shown.length === all?.length ? `${countText(shown.length)} tags` : `${countText(shown.length)} of ${countText(all?.length ?? 0)}`}
              </span>
            </div>
            <DataTable
              label="Tags"
              rows={shown}
              columns={columns}
              rowId={rowId}
              selected={selected}
              onSelect={setSelected}
              onVisible={onVisible}
              empty={
                <div className="p-6 text-center text-muted">
                  {trouble ? 'Every tag is good.' : 'No tag fits the filter.'}{' '}
                  <button type="button" className="text-slate underline" onClick={showAll}>
                    Show all
                  </button>
                </div>
              }
            />
          </>
        )}
      </ThreeParts>
    </>
  )
}

const rowId = (t: Tag) => t.id

function useTroubled(rows: readonly Tag[] | null): Set<number> {
  const [bad, setBad] = useState<Set<number>>(new Set())
  useEffect(() => {
    if (!rows) return
    let over = false
    const look = async () => {
      const found = new Set<number>()
      for (let i = 0; i < rows.length; i += 2000) {
        const part = rows.slice(i, i + 2000).map((t) => t.handle)
        for (const v of await call('tagValues', { query: { tags: part.join(',') } })) if (v[2] >>> 30 !== 0) found.add(v[0])
      }
      if (!over) setBad(found)
    }
    const run = () => void look().catch(() => undefined)
    run()
    const timer = setInterval(run, 2000)
    return () => {
      over = true
      clearInterval(timer)
    }
  }, [rows])
  return bad
}

function FolderRow({
  label,
  count,
  chosen,
  indent,
  glyph,
  onClick,
}: {
  label: string
  count: number | null
  chosen: boolean
  indent?: boolean
  glyph?: boolean
  onClick(): void
}) {
  return (
    <li>
      <button
        type="button"
        onClick={onClick}
        aria-pressed={chosen}
        className={`flex h-[25px] w-full items-center gap-2 border-l-2 pr-3 text-left ${indent ? 'pl-5' : 'pl-3'} ${chosen ? 'border-slate bg-wash' : 'border-transparent hover:bg-well'}`}
      >
        {glyph && <Glyph state="bad" />}
        <span className="truncate" title={label}>
          {label}
        </span>
        <span className="ml-auto font-mono text-[12px] text-muted">{count === null ? '' : countText(count)}</span>
      </button>
    </li>
  )
}
