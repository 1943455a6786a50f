import { useEffect, useMemo, useState } from 'react'
import { toast } from 'sonner'
import type { BrowseNode, Source } from '~/contract/source'
import { DataType, type TagInput } from '~/contract/tag'
import { type NamingRule, proposeName } from '~/core/source/naming'
import { wildcard } from '~/core/source/wildcard'
import { displayValue } from '~/core/value/datatype'
import { qualityOf, qualityText } from '~/core/value/quality'
import { fromWire } from '~/core/value/wire'
import { Button } from '~/ui/Button'
import { FilterBox, TextField } from '~/ui/Field'
import { Glyph } from '~/ui/Glyph'
import { Empty, Fact, Heading, Loading, type Problem, ProblemNote } from '~/ui/Notes'
import { ThreeParts } from '~/ui/Parts'
import { countText } from '~/ui/time'
import { go, useFilterInAddress, useTextInAddress } from '../app/address'
import { call, failureIn, refresh, useCall } from '../app/api'
import { useMay } from '../app/caller'
import { Row } from '../app/Frame'
import { VirtualTree } from '../shared/VirtualTree'
import { NamingFields } from './NamingFields'
import { SourceSelect } from './SourceSelect'
import { useNodeRows, useNodeTree } from './useNodeTree'
import { useWatched, type Watched } from './useWatched'

export function BrowsePage() {
  const sources = useCall('listSources')
  if (sources.error) return <ProblemNote problem={failureIn(sources.error)} />
  if (!sources.data) return <Loading />
  // Registers and topics have pages of their own: there is no list to browse.
  const list = sources.data.filter((s) => s.kind !== 'modbus' && s.kind !== 'mqtt')
  if (list.length > 0) return <Nodes sources={list} />
  return (
    <>
      <Row station="sources" page="Browse" />
      <Empty
        title="Nothing to browse yet"
        action={
          <a className="text-slate underline" href="/sources?add">
            Add a source
          </a>
        }
      >
        OPC UA servers, queries and documents say what they have. For Modbus see Registers, for MQTT see Topics.
      </Empty>
    </>
  )
}

/** How many names stand in a list of what would be taken. */
const SHOWN = 300

function Nodes({ sources }: { sources: Source[] }) {
  const mayEdit = useMay('engineer')
  const tags = useCall('listTags')
  const [sourceId, setSourceId] = useTextInAddress('source')
  const source = sources.find((s) => s.id === sourceId) ?? sources[0]!
  const tree = useNodeTree(source.id)
  const [words, setWords] = useFilterInAddress()
  const [pattern, setPattern] = useFilterInAddress('pattern')
  const [found, setFound] = useState<{ pattern: string; under: string; nodes: BrowseNode[]; all: number } | null>(null)
  const [busy, setBusy] = useState<'branch' | 'search' | 'add' | null>(null)
  const [picked, setPicked] = useState<ReadonlyMap<string, BrowseNode>>(new Map())
  const [cursor, setCursor] = useState<BrowseNode | null>(null)
  const [inside, setInside] = useState(false)
  const [rule, setRule] = useState<NamingRule>({ drop: 0, before: '' })
  const [problem, setProblem] = useState<(Problem & { fields?: Record<string, string> | undefined }) | null>(null)
  const taken = useMemo(() => new Map((tags.data ?? []).filter((t) => t.sourceId === source.id).map((t) => [t.address, t.name])), [tags.data, source])
  // Signals may be taken as often as one likes.
  const locked = source.kind === 'simulated' ? new Map<string, string>() : taken
  const rows = useNodeRows(tree, words.trim().toLowerCase(), picked, locked)
  const chosen = useMemo(() => [...picked.values()], [picked])
  const watched = useWatched(source.id, chosen)
  const { load, reset } = tree

  useEffect(() => {
    reset()
    setPicked(new Map())
    setFound(null)
    setCursor(null)
    if (mayEdit) void load(null)
  }, [load, reset, mayEdit])

  const pick = (nodes: readonly BrowseNode[], on: boolean) =>
    setPicked((old) => {
      const next = new Map(old)
      for (const n of nodes) {
        if (on && !locked.has(n.address)) next.set(n.address, n)
        else next.delete(n.address)
      }
      return next
    })
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
  const search = () =>
    guarded('search', async () => {
      const all = await deep(under)
      const fits = wildcard(pattern)
      setFound({
        pattern,
        under: under ? (under.path ?? under.name) : 'everything',
        nodes: all.filter((n) => fits(n.path ?? n.name)),
        all: all.length,
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
      setPicked(new Map())
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
            <SourceSelect sources={sources} value={source.id} onChange={setSourceId} />
            <Heading level={2}>Find by pattern</Heading>
            <form
              onSubmit={(e) => {
                e.preventDefault()
                if (pattern.trim() !== '') void search()
              }}
            >
              <TextField
                label="Pattern"
                mono
                value={pattern}
                placeholder="**/Zone */temperature"
                onChange={(e) => setPattern(e.target.value)}
                help="* in one level, ** over levels, ? one character"
              />
              <label className="flex items-start gap-2 pb-2 text-[13px]">
                <input
                  type="checkbox"
                  className="mt-1 accent-(--clay)"
                  checked={inside && folder !== null}
                  disabled={!folder}
                  onChange={(e) => setInside(e.target.checked)}
                />
                <span className={folder ? '' : 'text-muted'}>only under {folder ? (folder.path ?? folder.name) : 'the branch that is marked'}</span>
              </label>
              <Button type="submit" disabled={pattern.trim() === '' || !mayEdit} busy={busy === 'search'}>
                Find
              </Button>
            </form>
            {found && (
              <section aria-label="Found" className="mt-3">
                <p role="status">
                  <b>{countText(found.nodes.length)}</b> of {countText(found.all)} under {found.under} fit.
                </p>
                {found.nodes.length > 0 && (
                  <Button small className="my-1" onClick={() => pick(found.nodes, true)}>
                    Choose {found.nodes.length === 1 ? 'it' : `all ${countText(found.nodes.length)}`}
                  </Button>
                )}
                <ul className="text-[13px] text-muted">
                  {found.nodes.slice(0, SHOWN).map((n) => (
                    <li key={n.address} className="truncate" title={n.path}>
                      {n.path}
                      {locked.has(n.address) && ' (is a tag)'}
                    </li>
                  ))}
                </ul>
                {found.nodes.length > SHOWN && <p className="text-muted">and {countText(found.nodes.length - SHOWN)} more</p>}
              </section>
            )}
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
                <Chosen nodes={chosen} rule={rule} values={watched.values} fields={problem?.fields} onDrop={(n) => pick([n], false)} />
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
        ) : tree.busy.has('') && !tree.children.has('') ? (
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

/** What will be added: the name that each gets, and its value at this moment. */
function Chosen({
  nodes,
  rule,
  values,
  fields,
  onDrop,
}: {
  nodes: readonly BrowseNode[]
  rule: NamingRule
  values: ReadonlyMap<string, Watched>
  fields: Record<string, string> | undefined
  onDrop(n: BrowseNode): void
}) {
  return (
    <ul className="max-h-[46vh] overflow-auto rounded-sm border border-line" aria-label="Tags to be added">
      {nodes.slice(0, SHOWN).map((n, i) => {
        const wrong = fields?.[`tags.${i}.name`] ?? fields?.[`tags.${i}.address`]
        const v = values.get(n.address)
        return (
          <li key={n.address} className="group flex items-baseline gap-2 border-b border-line/60 px-2 py-[3px] last:border-0">
            <Glyph state={v ? qualityOf(v.status) : 'idle'} title={v ? qualityText(v.status) : 'no value yet'} />
            <span className="min-w-0 flex-1 break-words">
              {proposeName((n.path ?? n.name).split('/'), rule)}
              {wrong && <span className="block text-xs text-bad">{wrong}</span>}
            </span>
            <span className="max-w-28 truncate font-mono text-xs" title={v ? qualityText(v.status) : ''}>
              {v ? displayValue(fromWire(v.value), n.dataType === 'number') : '...'}
            </span>
            <span className="text-xs text-muted">{n.unit}</span>
            <button type="button" aria-label={`Leave out ${n.name}`} className="text-muted hover:text-bad" onClick={() => onDrop(n)}>
              ×
            </button>
          </li>
        )
      })}
    </ul>
  )
}

function Attributes({ node, taken }: { node: BrowseNode; taken: string | undefined }) {
  return (
    <>
      <Heading>{node.name}</Heading>
      <Fact name="Address">{node.address}</Fact>
      {node.path && <Fact name="Path">{node.path}</Fact>}
      {node.dataType && <Fact name="Data type">{node.dataType}</Fact>}
      {node.unit && <Fact name="Unit">{node.unit}</Fact>}
      {node.kind === 'variable' && node.writable !== undefined && <Fact name="Access">{node.writable ? 'read and write' : 'read'}</Fact>}
      {node.value !== undefined && <Fact name="Value when browsed">{node.value}</Fact>}
      {node.description && <Fact name="Description">{node.description}</Fact>}
      {taken && <Fact name="Is the tag">{taken}</Fact>}
    </>
  )
}
