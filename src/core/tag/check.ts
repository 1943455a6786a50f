import type { SourceKind } from '~/contract/source'
import type { Deadband, TagDraft } from '~/contract/tag'
import { checkAddress } from '../source/address'
import { parseSignal } from '../source/signal'
import { parseFormat } from '../value/format'
import { fromWire } from '../value/wire'

export type TagProperty = keyof TagDraft

const noRange = 'Per cent of what? Give the tag a range'

/**
 * What is wrong with a tag, by property; nothing: {}. Looks at one tag alone, at what its schema cannot say; with
 * `addressKnown` its address has been looked at already.
 */
export function tagProblems(t: TagDraft, kind: SourceKind | undefined, addressKnown = false): Partial<Record<TagProperty, string>> {
  const out: Partial<Record<TagProperty, string>> = {}
  if (!kind) out.sourceId = 'There is no such source'
  else if (!addressKnown) {
    const checked = checkAddress(kind, t.address)
    if ('problem' in checked) out.address = checked.problem
  }
  if (t.format !== '') {
    const format = parseFormat(t.format)
    if ('problem' in format) out.format = format.problem
  }
  const ofRange = (d: Deadband | null | undefined) => d?.kind === 'percent' && d.size > 0 && t.range === null
  if (ofRange(t.deadband)) out.deadband = noRange
  if (ofRange(t.history?.deadband)) out.history = noRange
  if (t.scaling && t.dataType !== 'number') out.scaling = 'Scaled values have fractions: the data type must be number'
  if (t.initial !== null) {
    const wanted = { boolean: 'boolean', integer: 'number', number: 'number', text: 'string', time: 'string' }[t.dataType]
    const initial = fromWire(t.initial)
    if (typeof initial === 'bigint') {
      if (t.dataType !== 'integer') out.initial = `A ${t.dataType} does not hold so many digits`
    } else if (typeof initial !== wanted) out.initial = `The initial value is no ${t.dataType}`
    else if (t.dataType === 'integer' && !Number.isSafeInteger(initial))
      out.initial = Number.isInteger(initial) ? 'Beyond 2^53 as its digits: {"whole": "9007199254740993"}' : 'The initial value is no whole number'
    else if (t.dataType === 'time' && Number.isNaN(Date.parse(initial as string))) out.initial = 'A time like 2026-01-31T08:00:00Z'
  }
  const signal = signalProblem(t)
  if (signal) out.signal = signal
  return out
}

/** What is wrong with a tag's signal; one that isn't simulated need not have any. */
function signalProblem(t: Pick<TagDraft, 'signal' | 'simulated'>): string | null {
  if (t.signal === '') return t.simulated ? 'Which signal stands in?' : null
  const parsed = parseSignal(t.signal)
  if ('problem' in parsed) return parsed.problem
  return parsed.kind === 'replay' ? 'Only a simulated source has a recording to replay' : null
}
