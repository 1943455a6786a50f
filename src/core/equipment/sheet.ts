import Papa from 'papaparse'
import { type Equipment, type EquipmentClass, EquipmentDraft, type EquipmentEditInput, Level } from '~/contract/equipment'
import { newId } from '~/contract/id'
import { bounded, guarded } from '../tag/sheet'
import { own } from '../value/own'
import { byName, lineage, mayHangUnder, wrongPlace } from './hierarchy'

/** Columns beside `fact: x` and `id: receiver`, of which there may be any number. */
export const equipmentColumns = ['under', 'name', 'level', 'class', 'alias'] as const
type Column = (typeof equipmentColumns)[number] | 'equipment_id' | `fact: ${string}` | `id: ${string}`

/** What one row of a sheet would do. */
export interface PlannedEquipment {
  line: number
  name: string
  state: 'add' | 'change' | 'same' | 'faulty'
  changes: { column: string; old: string; new: string }[]
  faults: { column: string; reason: string; given: string }[]
}

export interface EquipmentPlan {
  rows: PlannedEquipment[]
  counts: Record<PlannedEquipment['state'], number>
  /** Headings that are no column. */
  ignored: string[]
  edit: EquipmentEditInput
}

interface Model {
  equipment: ReadonlyMap<string, Equipment>
  classes: ReadonlyMap<string, Pick<EquipmentClass, 'id' | 'name'>>
}

const SEPARATOR = ' / '

/** Equipment as CSV, in the order of the tree: what stands above comes first. */
export function writeEquipment(model: Model): string {
  const all = [...model.equipment.values()]
  const facts = [...new Set(all.flatMap((e) => Object.keys(e.facts)))].sort(byName)
  const receivers = [...new Set(all.flatMap((e) => Object.keys(e.externalIds)))].sort(byName)
  const path = (e: Equipment) => lineage(model.equipment, e.id).map((x) => x.name)
  const rows = all
    .map((e) => ({ e, at: path(e) }))
    .sort((a, b) => byName(a.at.join('\u0001'), b.at.join('\u0001')))
    .map(({ e, at }) => [
      at.slice(0, -1).join(SEPARATOR),
      e.name,
      e.level,
      e.classId ? (model.classes.get(e.classId)?.name ?? '') : '',
      e.alias,
      ...facts.map((f) => String(own(e.facts, f) ?? '')),
      ...receivers.map((r) => own(e.externalIds, r) ?? ''),
      e.id,
    ])
  const heading = [...equipmentColumns, ...facts.map((f) => `fact: ${f}`), ...receivers.map((r) => `id: ${r}`), 'equipment_id']
  return `${Papa.unparse([heading, ...rows.map((r) => r.map(guarded))], { newline: '\r\n' })}\r\n`
}

/** Numbers and yes or no as such, everything else as text: `factValue('7')` is 7, `factValue('007')` stays text. */
export function factValue(text: string): string | number | boolean {
  const t = text.trim()
  if (t === 'true' || t === 'false') return t === 'true'
  return t !== '' && String(Number(t)) === t ? Number(t) : t
}

const plain = (text: string) => (/^'[=+\-@\t\r']/.test(text) ? text.slice(1) : text).trim()

function columnOf(heading: string): Column | null {
  const h = heading.trim()
  const small = h.toLowerCase()
  if ((equipmentColumns as readonly string[]).includes(small) || small === 'equipment_id') return small as Column
  const m = /^(fact|id)\s*:\s*(.+)$/is.exec(h)
  return m ? (`${m[1]!.toLowerCase()}: ${m[2]!.trim()}` as Column) : null
}

/**
 * What the rows of a CSV, or of cells pasted from a spreadsheet, would do: equipment is found by its `equipment_id`, else by its
 * place and name. Columns that are not there leave things as they are; an empty cell takes away. Throws when it is no table.
 */
export function planEquipment(text: string, model: Model): EquipmentPlan {
  const parsed = Papa.parse<string[]>(text.replace(/^\uFEFF/, ''), { skipEmptyLines: 'greedy', delimitersToGuess: [',', ';', '\t', '|'] })
  const [heading, ...data] = parsed.data
  const columns = (heading ?? []).map(columnOf)
  if (!columns.includes('name')) throw new Error('The first row holds the names of the columns, among them name; export some equipment to see them')
  const ignored = (heading ?? []).filter((_, i) => columns[i] === null).map((h) => h.trim())
  const after = new Map(model.equipment)
  const byPlace = new Map([...after.values()].map((e) => [`${e.parentId ?? ''}\n${e.name}`, e.id]))
  const classByName = new Map([...model.classes.values()].map((c) => [c.name.toLowerCase(), c.id]))
  const className = (id: string | null) => (id ? (model.classes.get(id)?.name ?? '') : '')
  const paths = new Map<string, string>()
  for (const e of after.values())
    paths.set(
      lineage(after, e.id)
        .map((x) => x.name)
        .join(SEPARATOR)
        .toLowerCase(),
      e.id,
    )
  const edit = { add: [] as NonNullable<EquipmentEditInput['add']>, change: [] as NonNullable<EquipmentEditInput['change']> }
  const seen = new Set<string>()

  const take = (cells: readonly string[], i: number): PlannedEquipment => {
    const line = i + 2
    const given = (c: Column): string | undefined => {
      const at = columns.indexOf(c)
      return at < 0 ? undefined : plain(cells[at] ?? '')
    }
    const faults: PlannedEquipment['faults'] = []
    const fault = (column: string, reason: string, text = '') => faults.push({ column, reason, given: bounded(text) })
    const name = given('name') ?? ''
    const under = given('under')
    const parentId =
      under === undefined || under === ''
        ? null
        : (paths.get(
            under
              .split(/\s*\/\s*/)
              .join(SEPARATOR)
              .toLowerCase(),
          ) ?? null)
    if (under && parentId === null) fault('under', 'No equipment stands there; what stands above must come first', under)
    const id = given('equipment_id')
    const old = (id ? model.equipment.get(id) : undefined) ?? model.equipment.get(byPlace.get(`${parentId ?? ''}\n${name}`) ?? '')
    const parent = parentId ? after.get(parentId) : null
    const levelText = given('level')
    const level = Level.safeParse(levelText || old?.level || (parent ? below[parent.level] : 'enterprise'))
    if (!level.success) fault('level', `One of ${Level.options.join(', ')}`, levelText)
    else if (faults.length === 0 && !mayHangUnder(level.data, parent?.level ?? null))
      fault('level', wrongPlace(level.data, parent ?? null), levelText)
    const classText = given('class')
    const classId = classText === undefined ? (old?.classId ?? null) : classText === '' ? null : (classByName.get(classText.toLowerCase()) ?? null)
    if (classText && classId === null) fault('class', 'There is no such class', classText)
    const facts = { ...(old?.facts ?? {}) }
    const externalIds = { ...(old?.externalIds ?? {}) }
    columns.forEach((c, at) => {
      if (!c?.startsWith('fact: ') && !c?.startsWith('id: ')) return
      const value = plain(cells[at] ?? '')
      const key = c.slice(c.indexOf(':') + 2)
      const into: Record<string, unknown> = c.startsWith('fact: ') ? facts : externalIds
      if (value === '') delete into[key]
      else into[key] = c.startsWith('fact: ') ? factValue(value) : value
    })
    const draft = {
      name,
      parentId: under === undefined && old ? old.parentId : parentId,
      level: level.success ? level.data : ('work unit' as const),
      classId,
      alias: given('alias') ?? old?.alias ?? '',
      facts,
      externalIds,
    }
    const checked = EquipmentDraft.safeParse(draft)
    if (!checked.success) for (const issue of checked.error.issues) fault(String(issue.path[0] ?? 'name'), issue.message, name)
    const place = `${draft.parentId ?? ''}\n${name}`
    if (seen.has(place)) fault('name', 'The same place and name as another row', name)
    seen.add(place)
    const taken = byPlace.get(place)
    if (taken !== undefined && taken !== old?.id) fault('name', 'Something beside it is called so already', name)
    if (faults.length > 0 || !checked.success) return { line, name, state: 'faulty', changes: [], faults }
    const now = checked.data
    if (!old) {
      const made = newId()
      edit.add.push({ ...now, id: made })
      after.set(made, { ...now, id: made, version: 1 })
      byPlace.set(place, made)
      paths.set(
        lineage(after, made)
          .map((x) => x.name)
          .join(SEPARATOR)
          .toLowerCase(),
        made,
      )
      return { line, name, state: 'add', changes: [], faults }
    }
    const parentName = (p: string | null) => (p ? (after.get(p)?.name ?? '') : '')
    const changes = [
      { column: 'name', old: old.name, new: now.name },
      { column: 'under', old: parentName(old.parentId), new: parentName(now.parentId) },
      { column: 'level', old: old.level, new: now.level },
      { column: 'class', old: className(old.classId), new: className(now.classId) },
      { column: 'alias', old: old.alias, new: now.alias },
      ...differing('fact: ', old.facts, now.facts),
      ...differing('id: ', old.externalIds, now.externalIds),
    ].filter((c) => c.old !== c.new)
    if (changes.length > 0) {
      const { name: n, parentId: p, level: l, classId: c, alias, facts: f, externalIds: x } = now
      edit.change.push({ id: old.id, version: old.version, name: n, parentId: p, level: l, classId: c, alias, facts: f, externalIds: x })
      after.set(old.id, { ...old, ...now, bindings: old.bindings, counts: old.counts })
    }
    return { line, name, state: changes.length > 0 ? 'change' : 'same', changes, faults }
  }
  const rows = data.map(take)
  const counts = { add: 0, change: 0, same: 0, faulty: 0 }
  for (const r of rows) counts[r.state]++
  return { rows, counts, ignored, edit }
}

const below: Record<Level, Level> = { enterprise: 'site', site: 'area', area: 'work centre', 'work centre': 'work unit', 'work unit': 'work unit' }

function differing(prefix: string, a: Record<string, unknown>, b: Record<string, unknown>): PlannedEquipment['changes'] {
  return [...new Set([...Object.keys(a), ...Object.keys(b)])].map((k) => ({ column: prefix + k, old: String(a[k] ?? ''), new: String(b[k] ?? '') }))
}
