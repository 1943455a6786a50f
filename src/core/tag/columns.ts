import type { SourceKind } from '~/contract/source'
import type { Deadband, Tag } from '~/contract/tag'
import { checkAddress } from '../source/address'
import { unitOf } from '../value/unit'
import { fromWire } from '../value/wire'
import type { TagProperty } from './check'

/** What a column needs to know of the works around a tag. */
export interface Surroundings {
  sourceName: ReadonlyMap<string, string>
  sourceId: ReadonlyMap<string, string>
  sourceKind: ReadonlyMap<string, SourceKind>
  groupName: ReadonlyMap<string, string>
  groupId: ReadonlyMap<string, string>
}

export function surroundings(
  sources: readonly { id: string; name: string; kind: SourceKind }[],
  groups: readonly { id: string; name: string }[],
): Surroundings {
  return {
    sourceName: new Map(sources.map((s) => [s.id, s.name])),
    sourceId: new Map(sources.map((s) => [s.name, s.id])),
    sourceKind: new Map(sources.map((s) => [s.id, s.kind])),
    groupName: new Map(groups.map((g) => [g.id, g.name])),
    groupId: new Map(groups.map((g) => [g.name, g.id])),
  }
}

/** A cell brought into the one form in which it is written out, or what is wrong with it. */
type Clean = { text: string } | { problem: string }

/** One column of the table in text: what CSV, XLSX, the clipboard, inline and mass edits have in common. */
export interface TagColumn {
  key: string
  label: string
  /** Which property it is of, or a part of; null: only for reading. */
  property: TagProperty | 'id' | null
  help: string
  /** Holds a number or nothing: a decimal comma may be read as a point. */
  numeric: boolean
  choices: readonly string[] | null
  read(t: Tag, s: Surroundings): string
  clean(text: string, s: Surroundings): Clean
}

const fine = (text: string): Clean => ({ text })
const limited = (most: number) => (text: string) =>
  text.length > most ? { problem: `At most ${most} characters, this has ${text.length}` } : fine(text)
const number = (text: string): Clean => {
  if (text === '') return fine('')
  const n = Number(text)
  return Number.isFinite(n) && /\d/.test(text) && !/^[+-]?0[xob]/i.test(text) ? fine(String(n)) : { problem: `${cut(text)} is no number` }
}
const whole = (low: number, high: number, unit: string) => (text: string) => {
  const n = Number(text)
  if (text === '') return fine('')
  return Number.isInteger(n) && n >= low && n <= high ? fine(String(n)) : { problem: `A whole number from ${low} to ${high} ${unit}`.trim() }
}
export const yes = new Set(['yes', 'true', '1', 'on'])
export const no = new Set(['', 'no', 'false', '0', 'off'])
const yesNo = (text: string): Clean => {
  const t = text.toLowerCase()
  return yes.has(t) ? fine('yes') : no.has(t) ? fine('no') : { problem: `${cut(text)} is neither yes nor no` }
}
const oneOf = (choices: readonly string[], empty: string) => (text: string) => {
  const t = text.toLowerCase()
  return t === '' ? fine(empty) : choices.includes(t) ? fine(t) : { problem: `${cut(text)} is none of ${choices.filter((c) => c !== '').join(', ')}` }
}

/** A given text in a message, not longer than a line. */
export const cut = (text: string) => (text.length > 40 ? `${text.slice(0, 37)}...` : text)

export const deadbandText = (d: Deadband | null | undefined) => (!d ? '' : d.kind === 'percent' ? `${d.size} %` : String(d.size))
export function parseDeadband(text: string): Deadband | null | { problem: string } {
  if (text === '') return null
  const m = /^(\d+(?:\.\d+)?(?:e[+-]?\d+)?)\s*(%?)$/i.exec(text)
  return m
    ? { kind: m[2] ? 'percent' : 'absolute', size: Number(m[1]) }
    : { problem: `${cut(text)} is no deadband: a size not below 0, or per cent as in 1 %` }
}
const deadband = (text: string): Clean => {
  const parsed = parseDeadband(text)
  return parsed && 'problem' in parsed ? parsed : fine(deadbandText(parsed))
}

function nameOf(text: string): Clean {
  if (text === '') return { problem: 'Every tag needs a name' }
  if (text.length > 120) return { problem: `At most 120 characters, this has ${text.length}` }
  if (/\p{Cc}/u.test(text)) return { problem: 'No control characters, please' }
  return text.split('/').some((part) => part.trim() === '') ? { problem: 'No empty part between slashes' } : fine(text)
}

const types = ['boolean', 'integer', 'number', 'text', 'time'] as const
const holds = ['nothing', 'engine', 'machine'] as const
const uuid = /^[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}$/i
const num = (n: number | null | undefined) => (n === null || n === undefined ? '' : String(n))
const yn = (b: boolean) => (b ? 'yes' : 'no')

type Parts = Pick<TagColumn, 'key' | 'label' | 'property' | 'help' | 'read' | 'clean'> & Partial<TagColumn>
const column = (c: Parts): TagColumn => ({ numeric: false, choices: null, ...c })

export const tagColumns: readonly TagColumn[] = [
  column({ key: 'name', label: 'Name', property: 'name', help: 'Folders and name, parted by slashes', read: (t) => t.name, clean: nameOf }),
  column({
    key: 'source',
    label: 'Source',
    property: 'sourceId',
    help: 'Name of the source; a tag stays with its source once it is there',
    read: (t, s) => s.sourceName.get(t.sourceId) ?? '',
    clean: (text, s) => (s.sourceId.has(text) ? fine(text) : { problem: text === '' ? 'Which source?' : `There is no source ${cut(text)}` }),
  }),
  column({
    key: 'address',
    label: 'Address',
    property: 'address',
    help: "As the source's kind writes it",
    read: (t) => t.address,
    clean: (text) => (text === '' ? { problem: 'Which node?' } : limited(1000)(text)),
  }),
  column({
    key: 'type',
    label: 'Type',
    property: 'dataType',
    help: types.join(', '),
    choices: types,
    read: (t) => t.dataType,
    clean: oneOf(types, 'number'),
  }),
  column({
    key: 'unit',
    label: 'Unit',
    property: 'unit',
    help: 'A symbol, or a code of UCUM or UN/CEFACT',
    read: (t) => t.unit,
    clean: (text) => limited(24)(unitOf(text)?.symbol ?? text),
  }),
  column({
    key: 'description',
    label: 'Description',
    property: 'description',
    help: 'At most 500 characters',
    read: (t) => t.description,
    clean: limited(500),
  }),
  column({
    key: 'format',
    label: 'Format',
    property: 'format',
    help: 'As 0.00, #,##0.0, 0.00E0, hex4, closed|open',
    read: (t) => t.format,
    clean: limited(40),
  }),
  column({
    key: 'low',
    label: 'Range from',
    property: 'range',
    help: 'Least value expected',
    numeric: true,
    read: (t) => num(t.range?.low),
    clean: number,
  }),
  column({
    key: 'high',
    label: 'Range to',
    property: 'range',
    help: 'Greatest value expected',
    numeric: true,
    read: (t) => num(t.range?.high),
    clean: number,
  }),
  column({
    key: 'deadband',
    label: 'Deadband',
    property: 'deadband',
    help: 'A size in the unit, or per cent of the range as in 1 %',
    numeric: true,
    read: (t) => deadbandText(t.deadband),
    clean: deadband,
  }),
  column({
    key: 'raw_low',
    label: 'Raw from',
    property: 'scaling',
    help: 'Scaling: first raw value',
    numeric: true,
    read: (t) => num(t.scaling?.rawLow),
    clean: number,
  }),
  column({
    key: 'raw_high',
    label: 'Raw to',
    property: 'scaling',
    help: 'Scaling: second raw value',
    numeric: true,
    read: (t) => num(t.scaling?.rawHigh),
    clean: number,
  }),
  column({
    key: 'scaled_low',
    label: 'Scaled from',
    property: 'scaling',
    help: 'What the first raw value means',
    numeric: true,
    read: (t) => num(t.scaling?.low),
    clean: number,
  }),
  column({
    key: 'scaled_high',
    label: 'Scaled to',
    property: 'scaling',
    help: 'What the second raw value means',
    numeric: true,
    read: (t) => num(t.scaling?.high),
    clean: number,
  }),
  column({
    key: 'clamp',
    label: 'Clamp',
    property: 'scaling',
    help: 'Whether scaled values stay within the two',
    choices: ['no', 'yes'],
    read: (t) => yn(t.scaling?.clamp ?? false),
    clean: yesNo,
  }),
  column({
    key: 'access',
    label: 'Access',
    property: 'access',
    help: 'read or read-write',
    choices: ['read', 'read-write'],
    read: (t) => t.access,
    clean: oneOf(['read', 'read-write'], 'read'),
  }),
  column({
    key: 'rate_ms',
    label: 'Own update rate, ms',
    property: 'sampleMs',
    help: "50 to 3600000 ms; empty: the group's or the source's",
    numeric: true,
    read: (t) => num(t.sampleMs),
    clean: whole(50, 3_600_000, 'ms'),
  }),
  column({
    key: 'group',
    label: 'Sampling group',
    property: 'groupId',
    help: 'Name of a sampling group',
    read: (t, s) => (t.groupId ? (s.groupName.get(t.groupId) ?? '') : ''),
    clean: (text, s) => (text === '' || s.groupId.has(text) ? fine(text) : { problem: `There is no sampling group ${cut(text)}` }),
  }),
  column({
    key: 'initial',
    label: 'Initial value',
    property: 'initial',
    help: 'Stands until the first value comes',
    read: (t) => (t.initial === null ? '' : String(fromWire(t.initial))),
    clean: limited(4000),
  }),
  column({
    key: 'hold',
    label: 'Hold',
    property: 'hold',
    help: holds.join(', '),
    choices: holds,
    read: (t) => t.hold,
    clean: oneOf(holds, 'nothing'),
  }),
  column({
    key: 'history',
    label: 'History',
    property: 'history',
    help: 'Whether values are to be stored',
    choices: ['no', 'yes'],
    read: (t) => yn(t.history !== null),
    clean: yesNo,
  }),
  column({
    key: 'history_deadband',
    label: 'History deadband',
    property: 'history',
    help: 'As deadband',
    numeric: true,
    read: (t) => deadbandText(t.history?.deadband),
    clean: deadband,
  }),
  column({
    key: 'history_min_ms',
    label: 'History at most every, ms',
    property: 'history',
    help: 'Not more often than this',
    numeric: true,
    read: (t) => (t.history?.minMs ? String(t.history.minMs) : ''),
    clean: (text) => whole(0, 86_400_000, 'ms')(text === '0' ? '' : text),
  }),
  column({
    key: 'history_max_ms',
    label: 'History at least every, ms',
    property: 'history',
    help: 'At least this often, even without a change',
    numeric: true,
    read: (t) => (t.history?.maxMs ? String(t.history.maxMs) : ''),
    clean: (text) => whole(0, 604_800_000, 'ms')(text === '0' ? '' : text),
  }),
  column({
    key: 'chart_low',
    label: 'Chart from',
    property: 'chart',
    help: 'Lower end of charts',
    numeric: true,
    read: (t) => num(t.chart?.low),
    clean: number,
  }),
  column({
    key: 'chart_high',
    label: 'Chart to',
    property: 'chart',
    help: 'Upper end of charts',
    numeric: true,
    read: (t) => num(t.chart?.high),
    clean: number,
  }),
  column({
    key: 'chart_line',
    label: 'Chart line',
    property: 'chart',
    help: 'straight or steps',
    choices: ['', 'straight', 'steps'],
    read: (t) => t.chart?.line ?? '',
    clean: oneOf(['straight', 'steps'], ''),
  }),
  column({ key: 'signal', label: 'Signal', property: 'signal', help: 'What stands in on simulation', read: (t) => t.signal, clean: limited(300) }),
  column({
    key: 'simulated',
    label: 'Simulated',
    property: 'simulated',
    help: 'Whether it is on simulation',
    choices: ['no', 'yes'],
    read: (t) => yn(t.simulated),
    clean: yesNo,
  }),
  column({ key: 'unit_ucum', label: 'Unit, UCUM', property: null, help: 'For reading only', read: (t) => unitOf(t.unit)?.ucum ?? '', clean: fine }),
  column({
    key: 'unit_cefact',
    label: 'Unit, UN/CEFACT',
    property: null,
    help: 'For reading only',
    read: (t) => unitOf(t.unit)?.cefact ?? '',
    clean: fine,
  }),
  column({
    key: 'id',
    label: 'Id',
    property: 'id',
    help: 'Finds the tag even when its name is another now; leave it empty to add one',
    read: (t) => t.id,
    clean: (text) => (text === '' || uuid.test(text) ? fine(text.toLowerCase()) : { problem: `${cut(text)} is no id` }),
  }),
]

export const columnIndex: ReadonlyMap<string, number> = new Map(tagColumns.map((c, i) => [c.key, i]))
export const at = (key: string) => columnIndex.get(key)!

/** The first column of each property: where a fault of the property is shown. */
export const columnOfProperty: ReadonlyMap<string, string> = new Map(
  [...tagColumns].reverse().flatMap((c) => (c.property === null ? [] : [[c.property, c.key] as const])),
)

/** The address as it will be stored, so that another way to write the same is no change. */
export function cleanAddress(text: string, kind: SourceKind | undefined): string {
  if (!kind) return text
  const checked = checkAddress(kind, text)
  return 'problem' in checked ? text : checked.address
}
