import type { Tag, TagDraft, TagEditInput } from '~/contract/tag'
import { checkAddress } from '../source/address'
import { type TagProperty, tagProblems } from './check'
import { at, cleanAddress, columnOfProperty, cut, type Surroundings, type TagColumn, tagColumns } from './columns'
import { emptyFlat, flatten, unflatten } from './flat'

/** A row of texts as it was given: one a column of the sheet. */
export interface GivenRow {
  /** Where it stands in what was given, counted from 1 with the heading. */
  line: number
  cells: readonly string[]
}

export interface CellChange {
  column: string
  old: string
  new: string
}
export interface CellFault {
  column: string
  reason: string
  given: string
}

/** What a row would do. */
export interface PlannedRow {
  line: number
  state: 'add' | 'change' | 'same' | 'faulty'
  name: string
  changes: readonly CellChange[]
  faults: readonly CellFault[]
  /** The tag that it would change. */
  tag: Tag | null
  draft: TagDraft | null
}

export interface Plan {
  rows: PlannedRow[]
  counts: Record<PlannedRow['state'], number>
  /** Headings that are no column; what stands under them is left out. */
  ignored: string[]
  /** Columns that were given. */
  given: string[]
}

export interface PlanInput {
  heading: readonly string[]
  rows: readonly GivenRow[]
  tags: readonly Tag[]
  around: Surroundings
  /** How fractions are written in columns of numbers. */
  decimal: '.' | ','
}

const none: readonly never[] = []
const ID = at('id')
const NAME = at('name')
const SOURCE = at('source')
const ADDRESS = at('address')
const key = (heading: string) =>
  heading
    .trim()
    .toLowerCase()
    .replace(/[^a-z]+/g, ' ')
    .trim()
const byHeading = new Map<string, number>(tagColumns.flatMap((c, i) => [[key(c.label), i] as const, [key(c.key), i] as const]))

/** For each heading the place of its column among the table's, or -1. Headings are columns' keys or labels, in any case. */
export const columnsOf = (heading: readonly string[]): number[] => heading.map((h) => byHeading.get(key(h)) ?? -1)

/** A cell as it is taken: without spaces around it, and with a decimal point. */
function taken(text: string, column: TagColumn, decimal: '.' | ','): string {
  const t = text.trim()
  return decimal === ',' && column.numeric ? t.replace(',', '.') : t
}

const CHUNK = 2000

/**
 * Says of every row what it would do: add a tag, change one (which cells, from what to what), nothing, or be refused (which
 * cells, why). Tags are found by their id where one is given, else by their name. Columns that are not given stay as they
 * are; an empty cell means the default. Nothing is changed. Yields how many rows are done, and returns the plan.
 */
export function* planRows({ heading, rows, tags, around, decimal }: PlanInput): Generator<number, Plan> {
  const places = columnsOf(heading)
  const seen = new Map<number, string>()
  heading.forEach((h, i) => {
    const p = places[i]!
    if (p < 0) return
    if (seen.has(p)) throw new PlanError(`The column ${h.trim()} is there twice`, 'Leave one of the two out')
    seen.set(p, h)
  })
  if (!seen.has(NAME) && !seen.has(ID))
    throw new PlanError(
      `The first row has no column called name or id: ${cut(heading.join(', '))}`,
      'The first row holds the names of the columns; export some tags to see them',
    )
  const byName = new Map<string, Tag>()
  const byId = new Map<string, Tag>()
  for (const t of tags) {
    byName.set(t.name, t)
    byId.set(t.id, t)
  }
  const met = new Map<string, number>()
  const out: PlannedRow[] = []
  const idCell = places.indexOf(ID)
  const nameCell = places.indexOf(NAME)
  for (let r = 0; r < rows.length; r++) {
    if (r > 0 && r % CHUNK === 0) yield r
    const { line, cells } = rows[r]!
    const name = nameCell < 0 ? '' : taken(cells[nameCell] ?? '', tagColumns[NAME]!, decimal)
    const id = idCell < 0 ? '' : (cells[idCell] ?? '').trim().toLowerCase()
    const tag = (id === '' ? byName.get(name) : byId.get(id)) ?? null
    if (id !== '' && !tag) {
      const fault = { column: 'id', reason: 'No tag has this id: leave it empty to add one', given: cut(id) }
      out.push({ line, state: 'faulty', name, changes: none, faults: [fault], tag: null, draft: null })
      continue
    }
    const row = planRow(line, cells, places, tag, around, decimal)
    if (tag) {
      const before = met.get(tag.id)
      if (before !== undefined) refuse(row, { column: id === '' ? 'name' : 'id', reason: `Row ${before} is about the same tag`, given: id || name })
      else met.set(tag.id, line)
    }
    out.push(row)
  }
  yield rows.length
  settle(out, tags, around)
  const counts = { add: 0, change: 0, same: 0, faulty: 0 }
  for (const row of out) counts[row.state]++
  return {
    rows: out,
    counts,
    ignored: heading.filter((h, i) => places[i]! < 0 && h.trim() !== ''),
    given: [...seen.keys()].map((p) => tagColumns[p]!.key),
  }
}

/** What was given cannot be read as rows of tags at all. */
export class PlanError extends Error {
  constructor(
    message: string,
    readonly hint: string,
  ) {
    super(message)
    this.name = 'PlanError'
  }
}

function refuse(row: PlannedRow, fault: CellFault): void {
  row.state = 'faulty'
  row.faults = [...row.faults, fault]
}

function planRow(
  line: number,
  cells: readonly string[],
  places: readonly number[],
  tag: Tag | null,
  around: Surroundings,
  decimal: '.' | ',',
): PlannedRow {
  const before = tag ? flatten(tag, around) : emptyFlat
  let flat: string[] | null = null
  let changes: CellChange[] | null = null
  let faults: CellFault[] | null = null
  const wrong = (column: string, reason: string, given: string) => {
    // One fault a cell is enough: what follows from it is not told.
    if (!(faults ??= []).some((f) => f.column === column)) faults.push({ column, reason, given: cut(given) })
  }
  for (let i = 0; i < places.length; i++) {
    const place = places[i]!
    if (place < 0 || place === ID) continue
    const given = cells[i] ?? ''
    if (given === before[place]) continue
    const column = tagColumns[place]!
    if (column.property === null) continue
    const text = taken(given, column, decimal)
    if (text === before[place]) continue
    const clean = column.clean(text, around)
    if ('problem' in clean) {
      wrong(column.key, clean.problem, given)
      continue
    }
    if (clean.text === before[place]) continue
    flat ??= [...before]
    flat[place] = clean.text
  }
  if (cells.length > places.length && cells.slice(places.length).some((c) => c.trim() !== ''))
    wrong('name', `The row has ${cells.length} cells, the heading ${places.length}: is a separator inside a text not in quotes?`, cells.at(-1)!)
  if (tag && flat) {
    if (flat[SOURCE] !== before[SOURCE]) wrong('source', 'A tag stays with its source: add a new one there instead', flat[SOURCE]!)
    if (flat[ADDRESS] !== before[ADDRESS]) flat[ADDRESS] = cleanAddress(flat[ADDRESS]!, around.sourceKind.get(tag.sourceId))
  }
  const name = (flat ?? before)[NAME]!
  if (tag && !faults && (!flat || flat.every((t, i) => t === before[i])))
    return { line, state: 'same', name, changes: none, faults: none, tag, draft: null }
  // A row to add must say what has no default.
  if (!tag) for (const place of [NAME, SOURCE, ADDRESS]) if (!flat || flat[place] === '') wrong(tagColumns[place]!.key, required[place]!, '')
  if (faults) return { line, state: 'faulty', name: name || cut(cells.find((c) => c.trim() !== '') ?? ''), changes: none, faults, tag, draft: null }
  const draft = unflatten(flat!, around, (column, reason) => wrong(column, reason, flat![at(column)]!))
  // What is wrong with an address is told where it is brought into its form, so that it is read only once.
  const kind = around.sourceKind.get(draft.sourceId)
  const address = kind && (!tag || draft.address !== tag.address) ? checkAddress(kind, draft.address) : null
  if (address && 'problem' in address) wrong('address', address.problem, draft.address)
  else if (address) draft.address = address.address
  for (const [property, reason] of Object.entries(tagProblems(draft, kind, true))) {
    const column = columnOfProperty.get(property) ?? 'name'
    wrong(column, reason, flat![at(column)]!)
  }
  if (faults) return { line, state: 'faulty', name, changes: none, faults, tag, draft: null }
  if (tag) {
    changes = []
    for (let i = 0; i < flat!.length; i++)
      if (flat![i] !== before[i] && tagColumns[i]!.property !== null) changes.push({ column: tagColumns[i]!.key, old: before[i]!, new: flat![i]! })
  }
  return { line, state: tag ? 'change' : 'add', name, changes: changes ?? none, faults: none, tag, draft }
}

const required: Record<number, string> = { [NAME]: 'Every tag needs a name', [SOURCE]: 'Which source?', [ADDRESS]: 'Which node?' }

/**
 * Names, and nodes of sources that have only one of each, must be one tag's alone when all is done. A row that would clash
 * is refused; since then its own change is not made either, it is looked again until nothing changes.
 */
function settle(rows: PlannedRow[], tags: readonly Tag[], around: Surroundings): void {
  const single = (sourceId: string) => around.sourceKind.get(sourceId) !== 'simulated'
  const node = (t: Pick<Tag, 'sourceId' | 'address'>) => `${t.sourceId} ${t.address}`
  if (rows.every((r) => r.state === 'same' || r.state === 'faulty')) return
  for (;;) {
    const live = rows.filter((r) => r.state === 'add' || r.state === 'change')
    const moved = new Set(live.flatMap((r) => (r.state === 'change' ? [r.tag!.id] : [])))
    // By whom: the name of a tag, or the line of a row.
    const names = new Map<string, string | number>()
    const nodes = new Map<string, string | number>()
    // Only what the rows want is looked for among the rest.
    const wantedNames = new Set(live.map((r) => r.draft!.name))
    const wantedNodes = new Set(live.map((r) => node(r.draft!)))
    for (const t of tags) {
      if (moved.has(t.id)) continue
      if (wantedNames.has(t.name)) names.set(t.name, t.name)
      const n = node(t)
      if (wantedNodes.has(n) && single(t.sourceId)) nodes.set(n, t.name)
    }
    let refused = 0
    for (const r of live) {
      const d = r.draft!
      const name = names.get(d.name)
      const own = single(d.sourceId) ? nodes.get(node(d)) : undefined
      if (name === undefined && own === undefined) {
        names.set(d.name, r.line)
        nodes.set(node(d), r.line)
        continue
      }
      refused++
      if (name !== undefined)
        refuse(r, { column: 'name', reason: typeof name === 'number' ? `Row ${name} has the same name` : 'Another tag has this name', given: d.name })
      if (own !== undefined)
        refuse(r, {
          column: 'address',
          reason: typeof own === 'number' ? `Row ${own} has the same node` : `This node is tag ${own} already`,
          given: cut(d.address),
        })
    }
    if (refused === 0) return
  }
}

/** The properties of a tag that a planned row changes. */
function patchOf(row: PlannedRow): Partial<TagDraft> {
  const properties = new Set(row.changes.map((c) => tagColumns[at(c.column)]!.property as TagProperty))
  return Object.fromEntries([...properties].map((p) => [p, row.draft![p]]))
}

/** The edit that does what a plan says; faulty rows are left out. Refused when a tag has been changed by somebody else since. */
export function editOf(rows: readonly PlannedRow[]): TagEditInput {
  return {
    add: rows.flatMap((r) => (r.state === 'add' ? [r.draft!] : [])),
    change: rows.flatMap((r) => (r.state === 'change' ? [{ ...patchOf(r), id: r.tag!.id, version: r.tag!.version }] : [])),
    remove: [],
  }
}

/** Runs a generator to its end at once. */
export function finish<T>(steps: Generator<unknown, T>): T {
  for (;;) {
    const step = steps.next()
    if (step.done) return step.value
  }
}
