import { useCallback, useMemo, useState } from 'react'
import type { BrowseNode } from '~/contract/source'
import type { Problem } from '~/ui/Notes'
import { call, failureIn } from '../../app/api'
import type { TreeRow } from '../../shared/VirtualTree'

export interface NodeRow extends TreeRow {
  node: BrowseNode
}

type Children = ReadonlyMap<string, readonly BrowseNode[]>

/** A source's nodes, asked for level by level as they are opened. */
export function useNodeTree(sourceId: string) {
  const [children, setChildren] = useState<Children>(new Map())
  const [open, setOpen] = useState<ReadonlySet<string>>(new Set())
  const [busy, setBusy] = useState<ReadonlySet<string>>(new Set())
  const [problem, setProblem] = useState<Problem | null>(null)

  const load = useCallback(
    async (at: BrowseNode | null) => {
      const address = at?.address ?? ''
      setBusy((old) => new Set(old).add(address))
      setProblem(null)
      try {
        const path = at ? (at.path ?? at.name) : ''
        const found = await call('browseSource', { params: { id: sourceId }, body: { address, deep: false } })
        const placed = found.map((n) => ({ ...n, path: path ? `${path}/${n.name}` : n.name }))
        setChildren((old) => new Map(old).set(address, placed))
        if (at) setOpen((old) => new Set(old).add(address))
      } catch (e) {
        setProblem(failureIn(e))
      } finally {
        setBusy((old) => {
          const next = new Set(old)
          next.delete(address)
          return next
        })
      }
    },
    [sourceId],
  )
  const toggle = (node: BrowseNode) => {
    if (!children.has(node.address)) return void load(node)
    setOpen((old) => {
      const next = new Set(old)
      if (!next.delete(node.address)) next.add(node.address)
      return next
    })
  }
  return { children, open, busy, problem, load, toggle }
}

/** Lays the loaded nodes flat: what is open, and with words only those that fit, under the folders that lead to them. */
export function useNodeRows(
  tree: Pick<ReturnType<typeof useNodeTree>, 'children' | 'open' | 'busy'>,
  words: string,
  picked: ReadonlyMap<string, BrowseNode>,
  taken: ReadonlyMap<string, string>,
): NodeRow[] {
  const { children, open, busy } = tree
  return useMemo(() => {
    const rows: NodeRow[] = []
    const walk = (address: string, depth: number): boolean => {
      let any = false
      for (const node of children.get(address) ?? []) {
        const variable = node.kind === 'variable'
        const opens = node.hasChildren || !variable
        const at = rows.length
        rows.push({
          id: node.address,
          depth,
          label: node.name,
          open: opens ? open.has(node.address) : null,
          busy: busy.has(node.address),
          ticked: variable ? picked.has(node.address) || taken.has(node.address) : null,
          locked: taken.has(node.address),
          node,
        })
        const below = opens && (open.has(node.address) || words !== '') && children.has(node.address) ? walk(node.address, depth + 1) : false
        const fits = words === '' || below || node.name.toLowerCase().includes(words)
        if (!fits) rows.length = at
        any ||= fits
      }
      return any
    }
    walk('', 0)
    return rows
  }, [children, open, busy, words, picked, taken])
}
