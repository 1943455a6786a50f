import type { Deadband, Tag, TagDraft } from '~/contract/tag'
import { wholeFromText } from '../value/whole'
import { toWire } from '../value/wire'
import { at, no, parseDeadband, type Surroundings, tagColumns, yes } from './columns'

/** One tag as the texts of all its columns, in their order. */
export function flatten(t: Tag, s: Surroundings): string[] {
  return tagColumns.map((c) => c.read(t, s))
}

/** The texts of a tag that has nothing but defaults. */
export const emptyFlat: readonly string[] = tagColumns.map((c) => {
  const defaults: Record<string, string> = { type: 'number', access: 'read', hold: 'nothing', clamp: 'no', history: 'no', simulated: 'no' }
  return defaults[c.key] ?? ''
})

const I = {
  name: at('name'),
  source: at('source'),
  address: at('address'),
  type: at('type'),
  unit: at('unit'),
  description: at('description'),
  format: at('format'),
  low: at('low'),
  high: at('high'),
  deadband: at('deadband'),
  rawLow: at('raw_low'),
  rawHigh: at('raw_high'),
  scaledLow: at('scaled_low'),
  scaledHigh: at('scaled_high'),
  clamp: at('clamp'),
  access: at('access'),
  rate: at('rate_ms'),
  group: at('group'),
  initial: at('initial'),
  hold: at('hold'),
  history: at('history'),
  historyDeadband: at('history_deadband'),
  historyMin: at('history_min_ms'),
  historyMax: at('history_max_ms'),
  chartLow: at('chart_low'),
  chartHigh: at('chart_high'),
  chartLine: at('chart_line'),
  signal: at('signal'),
  simulated: at('simulated'),
} as const

function initialOf(text: string, type: string): Tag['initial'] {
  if (text === '') return null
  if (type === 'integer') {
    const whole = wholeFromText(text)
    if (whole !== null) return toWire(whole)
  }
  if (type === 'boolean') return yes.has(text.toLowerCase()) ? true : text.toLowerCase() === 'false' || no.has(text.toLowerCase()) ? false : text
  if (type === 'integer' || type === 'number') return Number.isFinite(Number(text)) ? Number(text) : text
  return text
}

/**
 * A tag from the clean texts of its columns. `wrong` hears, by column, of what only shows when columns are seen together;
 * the tag that comes back is then of no use.
 */
export function unflatten(f: readonly string[], s: Surroundings, wrong: (key: string, problem: string) => void): TagDraft {
  const n = (i: number) => (f[i] === '' ? null : Number(f[i]))
  const low = n(I.low)
  const high = n(I.high)
  if ((low === null) !== (high === null)) wrong(low === null ? 'low' : 'high', 'A range needs both ends')
  else if (low !== null && high !== null && low >= high) wrong('low', 'Low must be below high')
  const four = [I.rawLow, I.rawHigh, I.scaledLow, I.scaledHigh]
  const given = four.filter((i) => f[i] !== '').length
  if (given > 0 && given < 4) wrong(tagColumns[four.find((i) => f[i] === '')!]!.key, 'Scaling needs all four: raw from and to, scaled from and to')
  else if (given === 4 && n(I.rawLow) === n(I.rawHigh)) wrong('raw_high', 'The two raw values must differ')
  else if (given === 4 && n(I.scaledLow) === n(I.scaledHigh)) wrong('scaled_high', 'The two scaled values must differ')
  else if (given === 0 && f[I.clamp] === 'yes') wrong('clamp', 'Nothing is scaled that could be clamped')
  const minMs = n(I.historyMin) ?? 0
  const maxMs = n(I.historyMax) ?? 0
  if (maxMs > 0 && minMs > maxMs) wrong('history_max_ms', 'The longest interval must not be shorter than the shortest')
  const history = f[I.history] === 'yes'
  if (!history && (minMs > 0 || maxMs > 0 || f[I.historyDeadband] !== ''))
    wrong('history', 'History is off: say yes, or leave its other columns empty')
  const chart = f[I.chartLine] !== '' || f[I.chartLow] !== '' || f[I.chartHigh] !== ''
  return {
    name: f[I.name]!,
    sourceId: s.sourceId.get(f[I.source]!) ?? '',
    address: f[I.address]!,
    dataType: f[I.type] as TagDraft['dataType'],
    unit: f[I.unit]!,
    description: f[I.description]!,
    format: f[I.format]!,
    deadband: parseDeadband(f[I.deadband]!) as Deadband | null,
    range: low !== null && high !== null ? { low, high } : null,
    scaling:
      given === 4
        ? { rawLow: n(I.rawLow)!, rawHigh: n(I.rawHigh)!, low: n(I.scaledLow)!, high: n(I.scaledHigh)!, clamp: f[I.clamp] === 'yes' }
        : null,
    access: f[I.access] as TagDraft['access'],
    sampleMs: n(I.rate),
    groupId: f[I.group] === '' ? null : (s.groupId.get(f[I.group]!) ?? null),
    initial: initialOf(f[I.initial]!, f[I.type]!),
    hold: f[I.hold] as TagDraft['hold'],
    history: history ? { deadband: parseDeadband(f[I.historyDeadband]!) as Deadband | null, minMs, maxMs } : null,
    chart: chart ? { low: n(I.chartLow), high: n(I.chartHigh), line: f[I.chartLine] === 'steps' ? 'steps' : 'straight' } : null,
    signal: f[I.signal]!,
    simulated: f[I.simulated] === 'yes',
  }
}
