import type { Tag } from '~/contract/tag'
import { reasonOf, Status } from '../value/quality'
import { columnIndex, type Surroundings, tagColumns } from './columns'
import type { TagStates } from './states'

/** Kinds of tags that are looked for at a glance. */
export const quickKinds = ['bad', 'uncertain', 'range', 'stale', 'never', 'still', 'simulated', 'unused'] as const
export type QuickKind = (typeof quickKinds)[number]

/** Columns whose cells come from the device, not from the settings. */
export const liveColumns = ['value', 'quality', 'time', 'age'] as const
export type LiveColumn = (typeof liveColumns)[number]
const isLive = (key: string): key is LiveColumn => (liveColumns as readonly string[]).includes(key)

/** A tag whose value has stayed the same for so long counts as not changing, ms. */
export const STILL_MS = 600_000

/** States of tags, found by handle. */
export class StateIndex {
  private readonly row: Int32Array

  constructor(
    readonly states: TagStates,
    /** When they were looked at, epoch ms. */
    readonly at: number,
  ) {
    let most = 0
    for (const h of states.handle) if (h > most) most = h
    this.row = new Int32Array(most + 1).fill(-1)
    states.handle.forEach((h, i) => {
      this.row[h] = i
    })
  }

  /** The place of a tag in the columns; -1: unknown there. */
  of(handle: number): number {
    return this.row[handle] ?? -1
  }
}

export interface ViewContext {
  around: Surroundings
  states: StateIndex | null
  /** Handles of tags that something uses; null: not known yet. */
  used: ReadonlySet<number> | null
  /** Ids of sources whose values are computed. */
  computed: ReadonlySet<string>
}

/** Whether a tag is of a kind; what depends on states is false until they are known. */
export function isOfKind(kind: QuickKind, tag: Tag, { states, used, computed }: ViewContext): boolean {
  if (kind === 'simulated') return tag.simulated || computed.has(tag.sourceId)
  if (kind === 'unused') return used !== null && !used.has(tag.handle)
  const row = states?.of(tag.handle) ?? -1
  if (!states || row < 0) return false
  const s = states.states
  const status = s.status[row]!
  switch (kind) {
    case 'never':
      return s.seen[row] === 0
    case 'bad':
      return status >>> 30 === 2 && status !== Status.waitingForInitialData
    case 'stale':
      return status === Status.stale || status === Status.lastUsable
    case 'range':
      return status >>> 16 === Status.outOfRange >>> 16 || status >>> 16 === Status.engineeringUnitsExceeded >>> 16 || isOutside(tag, s.value[row]!)
    case 'uncertain':
      return status >>> 30 === 1
    case 'still':
      return s.seen[row]! > 0 && states.at - s.changed[row]! > STILL_MS
  }
}

/** Whether a value lies beyond the range that is expected; what is no number does not. */
export const isOutside = ({ range }: Pick<Tag, 'range'>, value: number) => range !== null && (value < range.low || value > range.high)

/** How many tags are of each kind. */
export function countKinds(tags: readonly Tag[], ctx: ViewContext): Record<QuickKind, number> {
  const counts = Object.fromEntries(quickKinds.map((k) => [k, 0])) as Record<QuickKind, number>
  for (const t of tags) for (const k of quickKinds) if (isOfKind(k, t, ctx)) counts[k]++
  return counts
}

type Test = (text: string, number: number) => boolean

/**
 * What a column is filtered by: words that must be in it; `=words` for exactly them, `!words` for none of them; `=` alone for
 * empty, `!` alone for not empty; in numbers also `>5`, `>=5`, `<5`, `<=5` and `5..10`. Null: nothing is filtered.
 */
export function parseFilter(filter: string): Test | null {
  const f = filter.trim().toLowerCase()
  if (f === '') return null
  const compared = /^(>=|<=|>|<)\s*(-?\d+(?:\.\d+)?)$/.exec(f)
  if (compared) {
    const n = Number(compared[2])
    const how = compared[1]
    return (_t, x) => (how === '>' ? x > n : how === '>=' ? x >= n : how === '<' ? x < n : x <= n)
  }
  const between = /^(-?\d+(?:\.\d+)?)\.\.(-?\d+(?:\.\d+)?)$/.exec(f)
  if (between) return (_t, x) => x >= Number(between[1]) && x <= Number(between[2])
  if (f === '=') return (t) => t === ''
  if (f === '!') return (t) => t !== ''
  if (f.startsWith('=')) return (t) => t === f.slice(1).trim()
  if (f.startsWith('!')) return (t) => !t.includes(f.slice(1).trim())
  return (t) => t.includes(f)
}

interface Cell {
  text(t: Tag): string
  number(t: Tag): number
}

/** How a column's cells are looked at: as text in small letters, and as a number (NaN: none). */
function cellOf(key: string, { around, states }: ViewContext): Cell | null {
  if (!isLive(key)) {
    const column = tagColumns[columnIndex.get(key) ?? -1]
    if (!column) return null
    const text = (t: Tag) => column.read(t, around)
    return { text: (t) => text(t).toLowerCase(), number: (t) => (text(t) === '' ? Number.NaN : Number.parseFloat(text(t))) }
  }
  const none = { text: () => '', number: () => Number.NaN }
  if (!states) return none
  const s = states.states
  const at = (t: Tag, read: (row: number) => number) => {
    const row = states.of(t.handle)
    return row < 0 ? Number.NaN : read(row)
  }
  if (key === 'value') {
    const number = (t: Tag) => at(t, (r) => s.value[r]!)
    return {
      number,
      text: (t) =>
        s.texts.get(t.handle)?.toLowerCase() ??
        (Number.isNaN(number(t)) ? '' : t.dataType === 'boolean' ? String(number(t) === 1) : String(number(t))),
    }
  }
  if (key === 'quality') {
    const status = (t: Tag) => at(t, (r) => s.status[r]!)
    return { number: (t) => status(t), text: (t) => (Number.isNaN(status(t)) ? '' : reasonOf(status(t))) }
  }
  // Ages in seconds, since that is how one asks for them.
  const times = key === 'time' ? s.time : s.seen
  const number = (t: Tag) => at(t, (r) => (times[r]! === 0 ? Number.NaN : key === 'time' ? times[r]! : (states.at - times[r]!) / 1000))
  return { number, text: (t) => (key === 'time' && !Number.isNaN(number(t)) ? new Date(number(t)).toISOString().toLowerCase() : String(number(t))) }
}

export interface ViewQuery {
  /** Looked for in name, unit, address and description. */
  words: string
  /** Only what lies under it; '' is what lies in no folder; null: everywhere. */
  folder: string | null
  sourceId: string | null
  kind: QuickKind | null
  /** By column. */
  filters: Readonly<Record<string, string>>
  sort: { column: string; desc: boolean } | null
}

/** Whether what a query gives depends on values, so that it must be looked at anew as they change. */
export const isLiveQuery = (q: ViewQuery): boolean =>
  (q.kind !== null && q.kind !== 'simulated' && q.kind !== 'unused') ||
  (q.sort !== null && isLive(q.sort.column)) ||
  Object.entries(q.filters).some(([k, f]) => isLive(k) && f.trim() !== '')

export const folderOf = (name: string) => (name.includes('/') ? name.slice(0, name.lastIndexOf('/')) : '')
export const leafOf = (name: string) => name.slice(name.lastIndexOf('/') + 1)

const collator = new Intl.Collator('en', { numeric: true, sensitivity: 'base' })

/** Tags with what looking through them needs again and again: in the order of their names, with their words in small letters. */
export class TagList {
  readonly tags: readonly Tag[]
  private readonly words: string[] = []
  private readonly orders = new Map<string, Uint32Array>()

  constructor(tags: readonly Tag[]) {
    this.tags = [...tags].sort((a, b) => collator.compare(a.name, b.name))
  }

  private wordsOf(i: number): string {
    const t = this.tags[i]!
    return (this.words[i] ??= `${t.name} ${t.unit} ${t.address} ${t.description}`.toLowerCase())
  }

  /** Makes the words of some more tags ready, before anybody looks for them; true: there is more to do. */
  warm(most: number): boolean {
    const to = Math.min(this.tags.length, this.words.length + most)
    for (let i = this.words.length; i < to; i++) this.wordsOf(i)
    return to < this.tags.length
  }

  /** The tags that a query gives, in its order. */
  view(q: ViewQuery, ctx: ViewContext): Tag[] {
    const words = q.words.trim().toLowerCase()
    const tests = Object.entries(q.filters).flatMap(([key, filter]) => {
      const test = parseFilter(filter)
      const cell = test && cellOf(key, ctx)
      return cell ? [(t: Tag) => test!(cell.text(t), cell.number(t))] : []
    })
    const under = q.folder ? `${q.folder}/` : ''
    const out: number[] = []
    const { tags } = this
    for (let i = 0; i < tags.length; i++) {
      const t = tags[i]!
      if (q.sourceId !== null && t.sourceId !== q.sourceId) continue
      if (q.folder !== null && (q.folder === '' ? t.name.includes('/') : !t.name.startsWith(under))) continue
      if (words !== '' && !this.wordsOf(i).includes(words)) continue
      if (q.kind !== null && !isOfKind(q.kind, t, ctx)) continue
      if (tests.length > 0 && !tests.every((test) => test(t))) continue
      out.push(i)
    }
    if (q.sort) this.order(out, q.sort, ctx)
    return out.map((i) => tags[i]!)
  }

  private order(rows: number[], { column, desc }: { column: string; desc: boolean }, ctx: ViewContext): void {
    const turn = desc ? -1 : 1
    if (column === 'name') {
      if (desc) rows.reverse()
      return
    }
    const rank = isLive(column) ? null : this.rankOf(column, ctx)
    if (rank) {
      rows.sort((a, b) => turn * (rank[a]! - rank[b]!) || a - b)
      return
    }
    const cell = cellOf(column, ctx)
    if (!cell) return
    const numbers = new Float64Array(this.tags.length)
    for (const i of rows) numbers[i] = cell.number(this.tags[i]!)
    const texts = column === 'value' ? rows.filter((i) => Number.isNaN(numbers[i]!)).map((i) => [i, cell.text(this.tags[i]!)] as const) : []
    const text = new Map(texts)
    // Numbers first, then texts, then what has no value, whatever the direction.
    rows.sort((a, b) => {
      const x = numbers[a]!
      const y = numbers[b]!
      if (!Number.isNaN(x) || !Number.isNaN(y)) return Number.isNaN(x) ? 1 : Number.isNaN(y) ? -1 : turn * (x - y) || a - b
      const s = text.get(a) ?? ''
      const t = text.get(b) ?? ''
      if (s === '' || t === '') return s === t ? a - b : s === '' ? 1 : -1
      return turn * collator.compare(s, t) || a - b
    })
  }

  /** Each tag's place when sorted by a column of settings; made once, since comparing words takes long. Empty cells come last. */
  private rankOf(key: string, ctx: ViewContext): Uint32Array | null {
    const known = this.orders.get(key)
    if (known) return known
    const column = tagColumns[columnIndex.get(key) ?? -1]
    if (!column) return null
    const places = new Map<string, number>()
    const texts = this.tags.map((t) => column.read(t, ctx.around))
    const distinct = [...new Set(texts)].sort((a, b) =>
      a === '' || b === ''
        ? Number(a === '') - Number(b === '')
        : column.numeric
          ? Number.parseFloat(a) - Number.parseFloat(b) || collator.compare(a, b)
          : collator.compare(a, b),
    )
    distinct.forEach((text, i) => {
      places.set(text, i)
    })
    const rank = Uint32Array.from(texts, (t) => places.get(t)!)
    this.orders.set(key, rank)
    return rank
  }
}

/** A folder with how many tags lie in and under it. */
export interface Folder {
  path: string
  name: string
  depth: number
  tags: number
  below: boolean
}

/** All folders in the order of the tree. */
export function foldersOf(tags: readonly Tag[]): Folder[] {
  const counts = new Map<string, number>()
  for (const t of tags) {
    for (let at = t.name.indexOf('/'); at >= 0; at = t.name.indexOf('/', at + 1)) {
      const path = t.name.slice(0, at)
      counts.set(path, (counts.get(path) ?? 0) + 1)
    }
  }
  const paths = [...counts.keys()].map((path) => ({ path, parts: path.split('/') }))
  paths.sort((a, b) => {
    for (let i = 0; i < Math.min(a.parts.length, b.parts.length); i++) {
      const c = collator.compare(a.parts[i]!, b.parts[i]!) || (a.parts[i]! < b.parts[i]! ? -1 : a.parts[i] === b.parts[i] ? 0 : 1)
      if (c !== 0) return c
    }
    return a.parts.length - b.parts.length
  })
  return paths.map(({ path, parts }, i) => ({
    path,
    name: parts.at(-1)!,
    depth: parts.length - 1,
    tags: counts.get(path)!,
    below: paths[i + 1]?.path.startsWith(`${path}/`) ?? false,
  }))
}
