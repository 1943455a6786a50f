import { ChevronDown, ChevronRight } from 'lucide-react'
import { useMemo, useState } from 'react'
import { toast } from 'sonner'
import type { BrowseNode } from '~/contract/source'
import { DataType, type TagInput } from '~/contract/tag'
import { Button, Spinner } from '~/ui/Button'
import { SelectField, TextField } from '~/ui/Field'
import { Modal } from '~/ui/Modal'
import { type Problem, ProblemNote } from '~/ui/Notes'
import { countText } from '~/ui/time'
import { call, failureIn, refresh, useCall } from '../app/api'

interface Branch {
  node: BrowseNode
  children: Branch[] | null
  open: boolean
  busy: boolean
}

const leaf = (node: BrowseNode): Branch => ({ node, children: null, open: false, busy: false })

/** Browses a source and makes tags of the nodes chosen: one by one, or a whole branch at once. */
export function AddTags({ sourceId, onClose }: { sourceId: string; onClose(): void }) {
  const sources = useCall('listSources')
  const tags = useCall('listTags')
  const [chosenSource, setSource] = useState(sourceId)
  // Registers and topics have pages of their own: there is no list to browse.
  const browsable = (sources.data ?? []).filter((s) => s.kind !== 'modbus' && s.kind !== 'mqtt')
  const source = browsable.find((s) => s.id === chosenSource)?.id ?? browsable[0]?.id ?? ''
  const [tree, setTree] = useState<{ source: string; top: Branch[] } | null>(null)
  const [picked, setPicked] = useState<Map<string, BrowseNode>>(new Map())
  const [prefix, setPrefix] = useState('')
  const [filter, setFilter] = useState('')
  const [problem, setProblem] = useState<Problem | null>(null)
  const [refused, setRefused] = useState<Record<string, string>>({})
  const [busy, setBusy] = useState<'browse' | 'branch' | 'add' | null>(null)
  const taken = useMemo(() => new Map((tags.data ?? []).filter((t) => t.sourceId === source).map((t) => [t.address, t.name])), [tags.data, source])

  const browse = (address: string, deep: boolean) => call('browseSource', { params: { id: source }, body: { address, deep } })
  const guarded = async (what: typeof busy, work: () => Promise<void>) => {
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
  const begin = () => guarded('browse', async () => setTree({ source, top: (await browse('', false)).map(leaf) }))
  if (source && tree?.source !== source && busy === null && !problem) void begin()

  const change = (list: Branch[], address: string, to: (b: Branch) => Branch): Branch[] =>
    list.map((b) => (b.node.address === address ? to(b) : b.children ? { ...b, children: change(b.children, address, to) } : b))
  const update = (address: string, to: (b: Branch) => Branch) => setTree((t) => (t ? { ...t, top: change(t.top, address, to) } : t))

  const toggle = async (b: Branch) => {
    const { address, name, path = name } = b.node
    if (b.children) return update(address, (x) => ({ ...x, open: !x.open }))
    update(address, (x) => ({ ...x, busy: true }))
    try {
      const below = (await browse(address, false)).map((n) => leaf({ ...n, path: `${path}/${n.name}` }))
      update(address, (x) => ({ ...x, busy: false, open: true, children: below }))
    } catch (e) {
      update(address, (x) => ({ ...x, busy: false }))
      setProblem(failureIn(e))
    }
  }
  const pick = (nodes: BrowseNode[], on: boolean) =>
    setPicked((old) => {
      const next = new Map(old)
      for (const n of nodes) {
        if (on && !taken.has(n.address)) next.set(n.address, n)
        else next.delete(n.address)
      }
      return next
    })
  const pickBranch = (b: Branch) =>
    guarded('branch', async () => {
      const all = await browse(b.node.address, true)
      const path = b.node.path ?? b.node.name
      pick(
        all.map((n) => ({ ...n, path: `${path}/${n.path ?? n.name}` })),
        true,
      )
    })

  const nameOf = (n: BrowseNode) => {
    // Two parts say what it is; the rest of the path is where, and can be put before by hand.
    const parts = (n.path ?? n.name).split('/')
    return `${prefix}${parts.slice(-2).join('/')}`
  }
  const drafts = (): TagInput[] =>
    [...picked.values()].map((n) => ({
      name: nameOf(n),
      sourceId: source,
      address: n.address,
      dataType: DataType.safeParse(n.dataType).data ?? 'text',
      unit: n.unit ?? '',
      description: n.description ?? '',
      deadband: null,
    }))
  const add = () =>
    guarded('add', async () => {
      setRefused({})
      try {
        const made = await call('addTags', { body: { tags: drafts() } })
        await refresh('listTags', 'listSources')
        toast.success(`${countText(made.length)} ${made.length === 1 ? 'tag' : 'tags'} added`)
        onClose()
      } catch (e) {
        setRefused(failureIn(e).fields ?? {})
        throw e
      }
    })

  const changeSource = (id: string) => {
    setSource(id)
    setPicked(new Map())
    setProblem(null)
  }
  const words = filter.trim().toLowerCase()
  const rows = [...picked.values()]
  return (
    <Modal
      open
      onClose={onClose}
      width={1040}
      title="Add tags"
      note="Choose nodes on the left; each becomes a tag on the right"
      foot={
        <>
          <span className="mr-auto text-muted">{picked.size === 0 ? 'Nothing chosen yet' : `${countText(picked.size)} chosen`}</span>
          <Button onClick={onClose}>Cancel</Button>
          <Button kind="main" disabled={picked.size === 0} busy={busy === 'add'} onClick={() => void add()}>
            {picked.size === 1 ? 'Add 1 tag' : `Add ${picked.size > 0 ? countText(picked.size) : ''} tags`}
          </Button>
        </>
      }
    >
      <div className="grid h-[470px] grid-cols-2 gap-5">
        <section className="flex min-h-0 flex-col">
          <SelectField label="Source" value={source} onChange={(e) => changeSource(e.target.value)}>
            {browsable.map((s) => (
              <option key={s.id} value={s.id}>
                {s.name}
              </option>
            ))}
          </SelectField>
          <TextField label="Show only" value={filter} onChange={(e) => setFilter(e.target.value)} placeholder="part of a name" />
          {problem && (
            <div className="my-1">
              <ProblemNote
                problem={problem}
                action={
                  <Button small onClick={() => void begin()}>
                    Browse again
                  </Button>
                }
              />
            </div>
          )}
          <div className="min-h-0 flex-1 overflow-auto rounded-sm border border-line bg-sheet py-1" role="tree" aria-label="Address space">
            {busy === 'browse' && <div className="p-3 text-muted">Asking the server ...</div>}
            {tree?.source === source && (
              <Branches
                list={tree.top}
                depth={0}
                words={words}
                picked={picked}
                taken={taken}
                toggle={(b) => void toggle(b)}
                pick={pick}
                pickBranch={(b) => void pickBranch(b)}
                branchBusy={busy === 'branch'}
              />
            )}
          </div>
        </section>
        <section className="flex min-h-0 flex-col">
          <TextField
            label="Put before names"
            value={prefix}
            onChange={(e) => setPrefix(e.target.value)}
            placeholder="Kiln 1/"
            help="Slashes make folders"
          />
          <div className="min-h-0 flex-1 overflow-auto rounded-sm border border-line bg-sheet">
            <table className="w-full text-[13px]">
              <thead className="sticky top-0 bg-sheet">
                <tr className="border-b border-line text-left text-xs text-muted">
                  <th className="px-2 py-1 font-semibold">Tag</th>
                  <th className="px-2 font-semibold">Type</th>
                  <th className="px-2 font-semibold">Unit</th>
                  <th className="px-2 text-right font-semibold">Value now</th>
                </tr>
              </thead>
              <tbody>
                {rows.slice(0, 500).map((n, i) => {
                  const wrong = refused[`tags.${i}.name`] ?? refused[`tags.${i}.address`]
                  return (
                    <tr key={n.address} className="border-b border-line/60">
                      <td className="px-2 py-[3px]">
                        {nameOf(n)}
                        {wrong && <div className="text-xs text-bad">{wrong}</div>}
                      </td>
                      <td className="px-2 text-muted">{n.dataType ?? '?'}</td>
                      <td className="px-2 text-muted">{n.unit}</td>
                      <td className="max-w-32 truncate px-2 text-right font-mono text-xs">{n.value}</td>
                    </tr>
                  )
                })}
              </tbody>
            </table>
            {rows.length > 500 && <div className="p-2 text-muted">and {countText(rows.length - 500)} more</div>}
            {rows.length === 0 && <div className="p-4 text-center text-muted">Tick a node, or take a whole branch.</div>}
          </div>
        </section>
      </div>
    </Modal>
  )
}

interface BranchesProps {
  list: readonly Branch[]
  depth: number
  words: string
  picked: ReadonlyMap<string, BrowseNode>
  taken: ReadonlyMap<string, string>
  branchBusy: boolean
  toggle(b: Branch): void
  pick(nodes: BrowseNode[], on: boolean): void
  pickBranch(b: Branch): void
}

function Branches({ list, depth, ...rest }: BranchesProps) {
  const { words, picked, taken, toggle, pick, pickBranch, branchBusy } = rest
  return list.map((b) => {
    const { node } = b
    const variable = node.kind === 'variable'
    if (variable && words && !node.name.toLowerCase().includes(words)) return null
    const own = taken.get(node.address)
    return (
      <div key={node.address} role="treeitem" tabIndex={-1} aria-expanded={variable ? undefined : b.open} aria-label={node.name}>
        <div className="group flex h-[25px] items-center gap-1.5 pr-2 hover:bg-well/60" style={{ paddingLeft: 6 + depth * 16 }}>
          {variable ? (
            <input
              type="checkbox"
              aria-label={node.name}
              className="mx-0.5 accent-(--clay)"
              checked={picked.has(node.address) || own !== undefined}
              disabled={own !== undefined}
              onChange={(e) => pick([node], e.target.checked)}
            />
          ) : (
            <button
              type="button"
              onClick={() => toggle(b)}
              aria-label={`${b.open ? 'Close' : 'Open'} ${node.name}`}
              className="grid size-[17px] place-items-center text-muted"
            >
              {b.busy ? <Spinner /> : b.open ? <ChevronDown size={14} /> : <ChevronRight size={14} />}
            </button>
          )}
          <button
            type="button"
            className="truncate text-left"
            onClick={() => (variable ? own === undefined && pick([node], !picked.has(node.address)) : toggle(b))}
            title={node.address}
          >
            {node.name}
          </button>
          {own !== undefined && <span className="truncate text-xs text-muted">is {own}</span>}
          {variable && (
            <span className="ml-auto max-w-28 truncate font-mono text-xs text-muted">
              {node.value} {node.unit}
            </span>
          )}
          {!variable && (
            <Button
              small
              kind="quiet"
              className="ml-auto opacity-0 group-hover:opacity-100 focus:opacity-100"
              disabled={branchBusy}
              onClick={() => pickBranch(b)}
              aria-label={`Take all under ${node.name}`}
            >
              take all
            </Button>
          )}
        </div>
        {b.open && b.children && <Branches list={b.children} depth={depth + 1} {...rest} />}
        {b.open && b.children?.length === 0 && (
          <div className="text-muted" style={{ paddingLeft: 30 + depth * 16 }}>
            nothing under it
          </div>
        )}
      </div>
    )
  })
}
