import { useDraggable, useDroppable } from '@dnd-kit/core'
import { type KeyboardEvent, useMemo, useState } from 'react'
import type { Equipment } from '~/contract/equipment'
import { byName } from '~/core/equipment/hierarchy'
import type { Quality } from '~/core/value/quality'
import { Glyph } from '~/ui/Glyph'
import { type TreeRow, VirtualTree } from '../shared/VirtualTree'

interface Row extends TreeRow {
  one: Equipment
  under: number
}

/** The hierarchy, open or closed at each node; drag one onto another, or Ctrl+X and Ctrl+V, to place it there. */
export function PlantTree({
  list,
  filter,
  selected,
  qualities,
  mayEdit,
  onSelect,
  onKey,
}: {
  list: readonly Equipment[]
  filter: string
  selected: ReadonlySet<string>
  qualities: ReadonlyMap<string, Quality>
  mayEdit: boolean
  onSelect(id: string, held: { shift: boolean; ctrl: boolean }, order: readonly string[]): void
  onKey(e: KeyboardEvent, id: string): void
}) {
  const [turned, setTurned] = useState<ReadonlySet<string>>(new Set())
  const children = useMemo(() => {
    const map = new Map<string | null, Equipment[]>()
    for (const e of list) {
      const beside = map.get(e.parentId)
      if (beside) beside.push(e)
      else map.set(e.parentId, [e])
    }
    for (const c of map.values()) c.sort((a, b) => byName(a.name, b.name))
    return map
  }, [list])
  // As many levels stand open at first as can be overlooked.
  const openTo = useMemo(() => {
    let level = children.get(null) ?? []
    let seen = level.length
    for (let depth = 0; ; depth++) {
      const next = level.flatMap((e) => children.get(e.id) ?? [])
      seen += next.length
      if (next.length === 0 || seen > 60) return Math.max(1, next.length === 0 ? 9 : depth)
      level = next
    }
  }, [children])
  const kept = useMemo(() => {
    const words = filter.trim().toLowerCase()
    if (!words) return null
    const byId = new Map(list.map((e) => [e.id, e]))
    const out = new Set<string>()
    for (const e of list) {
      if (!e.name.toLowerCase().includes(words) && !e.alias.toLowerCase().includes(words)) continue
      for (let at: Equipment | undefined = e; at && !out.has(at.id); at = at.parentId ? byId.get(at.parentId) : undefined) out.add(at.id)
    }
    return out
  }, [list, filter])
  const rows = useMemo(() => {
    const out: Row[] = []
    const walk = (parent: string | null, depth: number) => {
      for (const e of children.get(parent) ?? []) {
        if (kept && !kept.has(e.id)) continue
        const under = children.get(e.id)?.length ?? 0
        const open = kept !== null || turned.has(e.id) !== depth < openTo
        out.push({ id: e.id, depth, label: e.name, open: under > 0 ? open : null, ticked: null, one: e, under })
        if (under > 0 && open) walk(e.id, depth + 1)
      }
    }
    walk(null, 0)
    return out
  }, [children, turned, openTo, kept])
  const order = useMemo(() => rows.map((r) => r.id), [rows])
  return (
    <VirtualTree
      label="Plant"
      rows={rows}
      chosen={selected}
      onToggle={(row) => {
        const next = new Set(turned)
        if (!next.delete(row.id)) next.add(row.id)
        setTurned(next)
      }}
      onTick={() => undefined}
      onCursor={(row, held) => onSelect(row.id, held, order)}
      onKey={(e, row) => onKey(e, row.id)}
      empty={<p className="px-3 py-2 text-muted">{filter ? 'Nothing is called so.' : ''}</p>}
    >
      {(row: Row) => <Node row={row} quality={qualities.get(row.id)} mayEdit={mayEdit} />}
    </VirtualTree>
  )
}

function Node({ row, quality, mayEdit }: { row: Row; quality: Quality | undefined; mayEdit: boolean }) {
  const drag = useDraggable({ id: `equipment ${row.id}`, data: { equipment: row.one }, disabled: !mayEdit })
  const drop = useDroppable({ id: `place ${row.id}`, data: { place: row.one }, disabled: !mayEdit })
  return (
    <span
      ref={(el) => {
        drag.setNodeRef(el)
        drop.setNodeRef(el)
      }}
      {...drag.listeners}
      className={`flex min-w-0 flex-1 items-center gap-2 self-stretch rounded-sm ${drop.isOver && !drag.isDragging ? 'outline outline-1 outline-slate' : ''}`}
    >
      <span className="truncate" title={row.one.level}>
        {row.label}
      </span>
      <span className="ml-auto flex shrink-0 items-center gap-1.5">
        {row.under > 0 && <span className="font-mono text-[12px] text-muted">{row.under}</span>}
        {quality ? <Glyph state={quality} title={`${quality}: the worst of what is in it`} /> : <span className="w-[14px]" />}
      </span>
    </span>
  )
}
