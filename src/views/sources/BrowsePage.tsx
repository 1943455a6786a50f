import { useEffect, useMemo, useState } from 'react'
import { toast } from 'sonner'
import type { BrowseNode, Source } from '~/contract/source'
import { DataType, type TagInput } from '~/contract/tag'
import { type NamingRule, proposeName } from '~/core/source/naming'
import { nearPatterns, wildcard } from '~/core/source/wildcard'
import { Button } from '~/ui/Button'
import { FilterBox } from '~/ui/Field'
import { Loading, type Problem, ProblemNote } from '~/ui/Notes'
import { Middle, ThreeParts } from '~/ui/Parts'
import { countText } from '~/ui/time'
import { go, useFilterInAddress, useTextInAddress } from '../app/address'
import { call, failureIn, refresh, useCall } from '../app/api'
import { useMay } from '../app/caller'
import { Row } from '../app/Frame'
import { useOnline } from '../app/live/live'
import { Failed } from '../shared/Failed'
import { EmptyStation } from '../shared/Onward'
import { VirtualTree } from '../shared/VirtualTree'
import { Attributes } from './browse/Attributes'
import { Chosen, SHOWN } from './browse/Chosen'
import { FindByPattern, type Found } from './browse/FindByPattern'
import { useNodeRows, useNodeTree } from './browse/useNodeTree'
import { useWatched } from './browse/useWatched'
import { kindView, tagsPageOf } from './kinds'
import { NamingFields } from './NamingFields'
import { SourceSelect } from './SourceSelect'
import { usePicked } from './usePicked'

export function BrowsePage() {
  const sources = useCall('listSources')
  const [sourceId, setSourceId] = useTextInAddress('source')
  if (!sources.data)
    return (
      <>
        <Row station="sources" page="Browse" />
        <Middle>{sources.error ? <Failed of={sources} /> : <Loading />}</Middle>
      </>
    )
  // Registers and topics have pages of their own: there is no list to browse.
  const list = sources.data.filter((s) => tagsPageOf(s.kind) === '/sources/browse')
  const source = list.find((s) => s.id === sourceId) ?? list[0]
  if (source) return <Nodes key={source.id} source={source} sources={list} onSource={setSourceId} />
  return (
    <>
      <Row station="sources" page="Browse" />
      <Middle>
        <EmptyStation
          needs="engineer"
          title="Nothing to browse yet"
          action={
            <a className="text-slate underline" href="/sources?add">
              Add a source
            </a>
          }
        >
          OPC UA servers, queries and documents say what they have. For Modbus see Registers, for MQTT see Topics.
        </EmptyStation>
      </Middle>
    </>
  )
}

function Nodes({ source, sources, onSource }: { source: Source; sources: Source[]; onSource(id: string): void }) {
  const mayEdit = useMay('engineer')
  const tags = useCall('listTags', { query: { source: source.id } })
  const tree = useNodeTree(source.id)
  const [words, setWords] = useFilterInAddress()
  const [pattern, setPattern] = useFilterInAddress('pattern')
  const [found, setFound] = useState<Found | null>(null)
  const [busy, setBusy] = useState<'branch' | 'search' | 'add' | null>(null)
  const [cursor, setCursor] = useState<BrowseNode | null>(null)
  const [inside, setInside] = useState(false)
  const [rule, setRule] = useState<NamingRule>({ drop: 0, before: '' })
  const [problem, setProblem] = useState<(Problem & { fields?: Record<string, string> | undefined }) | null>(null)
  const taken = useMemo(() => new Map((tags.data ?? []).map((t) => [t.address, t.name])), [tags.data])
  // Signals may be taken as often as one likes.
  const locked = kindView(source.kind).measured ? taken : new Map<string, string>()
  const { picked, pick, clear } = usePicked<BrowseNode>(`nodes ${source.id}`, locked)
  const rows = useNodeRows(tree, words.trim().toLowerCase(), picked, locked)
  const chosen = useMemo(() => [...picked.values()], [picked])
  const watched = useWatched(source.id, chosen)
  const { load } = tree

  const online = useOnline() === 'on'
  // What could not be asked for is asked again when the line is back.
  useEffect(() => {
    if (mayEdit && online) void load(null)
  }, [load, mayEdit, online])
  const guarded = async (what: NonNullable<typeof busy>, work: () => Promise<void>) => {
    setBusy(what)
    setProblem(null)
    try {
      await work()
    } catch (e) {
      setProblem(failureIn(e))
    } finally {
      setBusy(null)
    }
  }
  const deep = async (at: BrowseNode | null): Promise<BrowseNode[]> => {
    const path = at ? (at.path ?? at.name) : ''
    const all = await call('browseSource', { params: { id: source.id }, body: { address: at?.address ?? '', deep: true } })
    return all.map((n) => ({ ...n, path: path ? `${path}/${n.path ?? n.name}` : (n.path ?? n.name) }))
  }
  const folder = cursor?.kind === 'folder' ? cursor : null
  const under = inside ? folder : null
  const search = (wanted: string) =>
    guarded('search', async () => {
      const all = await deep(under)
      const fits = wildcard(wanted)
      const pathOf = (n: BrowseNode) => n.path ?? n.name
      const nodes = all.filter((n) => fits(pathOf(n)))
      setFound({
        under: under ? pathOf(under) : 'everything',
        nodes,
        all: all.length,
        near: nodes.length === 0 ? nearPatterns(wanted, all.map(pathOf)) : [],
      })
    })
  const drafts = (): TagInput[] =>
    chosen.map((n) => ({
      name: proposeName((n.path ?? n.name).split('/'), rule),
      sourceId: source.id,
      address: n.address,
      dataType: DataType.safeParse(n.dataType).data ?? 'text',
      unit: n.unit ?? '',
      description: (n.description ?? '').slice(0, 500),
      access: n.writable ? 'read-write' : 'read',
    }))
  const add = () =>
    guarded('add', async () => {
      const made = await call('addTags', { body: { tags: drafts() } })
      await refresh('listTags', 'listSources')
      clear()
      setFound(null)
      toast.success(`${countText(made.length)} ${made.length === 1 ? 'tag' : 'tags'} added`, {
        action: { label: 'Look at them', onClick: () => go(`/tags?source=${source.id}`) },
      })
    })

  return (
    <>
      <Row station="sources" page="Browse">
        <Button kind="main" disabled={chosen.length === 0 || !mayEdit} busy={busy === 'add'} onClick={() => void add()}>
          {chosen.length === 1 ? 'Add 1 tag' : `Add ${chosen.length > 0 ? countText(chosen.length) : ''} tags`}
        </Button>
      </Row>
      <ThreeParts
        id="browse"
        peekWidth={380}
        left={
          <div className="px-3 py-1 [&_.grid]:grid-cols-1">
            <SourceSelect sources={sources} value={source.id} onChange={onSource} />
            <FindByPattern
              pattern={pattern}
              onPattern={setPattern}
              inside={inside && folder !== null}
              onInside={setInside}
              folder={folder}
              found={found}
              busy={busy === 'search'}
              mayEdit={mayEdit}
              locked={locked}
              onFind={(wanted) => void search(wanted)}
              onChoose={(nodes) => pick(nodes, true)}
            />
          </div>
        }
        peek={
          <>
            {problem && (
              <div className="mb-2">
                <ProblemNote problem={problem} />
              </div>
            )}
            <h2 className="text-[15px] font-semibold">{chosen.length === 0 ? 'Nothing chosen yet' : `${countText(chosen.length)} chosen`}</h2>
            {chosen.length === 0 && (
              <p className="text-muted">Tick a node, take all of a branch, or find by pattern. Values show here before anything is added.</p>
            )}
            {chosen.length > 0 && (
              <>
                <NamingFields rule={rule} onChange={setRule} />
                {watched.problem && <p className="text-bad">{watched.problem}</p>}
                <div
                  data-watched={watched.old ? 'old' : watched.values.size > 0 ? 'live' : 'asking'}
                  className={watched.old ? 'italic opacity-60' : ''}
                >
                  <Chosen nodes={chosen} rule={rule} values={watched.values} fields={problem?.fields} onDrop={(n) => pick([n], false)} />
                </div>
                {chosen.length > SHOWN && <p className="text-muted">and {countText(chosen.length - SHOWN)} more</p>}
              </>
            )}
            {cursor && <Attributes node={cursor} taken={taken.get(cursor.address)} />}
          </>
        }
      >
        {tree.problem ? (
          <div className="p-4">
            <ProblemNote problem={tree.problem} action={<Button onClick={() => void load(null)}>Browse again</Button>} />
          </div>
        ) : !mayEdit ? (
          <p className="p-4 text-muted">Browsing needs the role engineer.</p>
        ) : tags.error ? (
          <Failed of={tags} />
        ) : !tags.data || (tree.busy.has('') && !tree.children.has('')) ? (
          <Loading rows={10} label="Asking the source" />
        ) : (
          <>
            <div className="flex shrink-0 items-center gap-2 border-b border-line px-2.5 py-[6px]">
              <FilterBox value={words} onChange={setWords} placeholder="filter what is open" />
              <span className="ml-auto font-mono text-[12px] text-muted">{countText(rows.length)} shown</span>
            </div>
            <VirtualTree
              label="Nodes"
              rows={rows}
              onToggle={(r) => tree.toggle(r.node)}
              onTick={(r, on) => pick([r.node], on)}
              onCursor={(r) => setCursor(r.node)}
              empty={
                <p className="p-4 text-muted">{words ? 'Nothing that is open fits. Find by pattern looks everywhere.' : 'There is nothing here.'}</p>
              }
            >
              {({ node, locked: isTag }) => (
                <>
                  <span className={`truncate ${node.kind === 'folder' ? 'font-semibold' : ''}`} title={node.address}>
                    {node.name}
                  </span>
                  {isTag && <span className="truncate text-xs text-muted">is {taken.get(node.address)}</span>}
                  <span className="ml-auto flex items-center gap-2">
                    {node.kind === 'variable' ? (
                      <span className="max-w-44 truncate font-mono text-xs text-muted">
                        {node.value ?? node.description} {node.unit}
                      </span>
                    ) : (
                      <Button
                        small
                        kind="quiet"
                        tabIndex={-1}
                        disabled={busy !== null}
                        className="opacity-0 group-hover:opacity-100 focus:opacity-100"
                        aria-label={`Take all under ${node.name}`}
                        onClick={() => void guarded('branch', async () => pick(await deep(node), true))}
                      >
                        take all
                      </Button>
                    )}
                  </span>
                </>
              )}
            </VirtualTree>
          </>
        )}
      </ThreeParts>
    </>
  )
}
