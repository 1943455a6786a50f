import type { Step, StepKind, WindowBy } from '~/contract/step'
import { stepNames } from '~/core/publication/steps/apply'
import { spanWords } from '../when/words'

const windowWords: Record<WindowBy, string> = {
  last: 'as it was last',
  average: 'their average',
  least: 'the least of them',
  most: 'the most of them',
  sum: 'their sum',
  each: 'lists of all of them',
}
export const windowChoices = (Object.keys(windowWords) as WindowBy[]).map((value) => ({ value, label: windowWords[value] }))

const missing = '...'
const list = (members: readonly string[]) => members.join(', ') || missing
const count = (n: number, one: string) => `${n} ${one}${n === 1 ? '' : 's'}`

/** What a step says after its name. */
export function stepWords(step: Step): string {
  switch (step.kind) {
    case 'keep':
    case 'drop':
      return step.condition || missing
    case 'repeats':
      return 'what says the same as the message before it'
    case 'set':
      return `${step.member || missing} = ${step.expression || missing}${step.unit ? ` in ${step.unit}` : ''}`
    case 'rename':
      return `${step.member || missing} to ${step.to || missing}`
    case 'leave':
      return step.but ? `all but ${list(step.members)}` : list(step.members)
    case 'convert':
      return `${step.member || missing} to ${[step.unit, step.dataType].filter(Boolean).join(', ') || missing}`
    case 'lookup':
      return `${step.member || missing} in a table of ${count(step.table.rows.length, 'row')}: ${list(step.table.columns.slice(1))}`
    case 'record':
      return `${step.member || missing} in the rows of a source: ${list(step.columns.map((c) => c.name))}`
    case 'smooth':
      return `${list(step.members)} over ${spanWords(step.seconds)}`
    case 'bridge':
      return `of ${list(step.members)} ${step.by === 'last' ? 'with the last good value' : 'along the line of the last two'}${step.seconds === undefined ? '' : `, up to ${spanWords(step.seconds)}`}`
    case 'split':
      return `${step.member || missing}, a message for each item`
    case 'window':
      return [
        `${spanWords(step.seconds)}${step.messages === undefined ? '' : ` or ${count(step.messages, 'message')}`}`,
        `${step.key ? `, apart by ${step.key}` : ''}: ${step.by === 'each' ? 'all' : 'numbers'} become ${windowWords[step.by]}`,
      ].join('')
    case 'script': {
      const lines = step.code.split('\n').filter((l) => l.trim() !== '' && !l.trim().startsWith('//'))
      return lines.length <= 1 ? lines.join('').trim() || missing : `${count(lines.length, 'line')}: ${lines[0]!.trim()}`
    }
  }
}

/** All of them in one sentence. */
export const stepsSentence = (steps: readonly Step[]): string =>
  steps.map((s, i) => `${i === 0 ? stepNames[s.kind].toLowerCase() : `then ${stepNames[s.kind].toLowerCase()}`} ${stepWords(s)}`).join(', ')

/** What each kind does to quality and time, and what else one has to know. */
export const stepEffects: Record<StepKind, string> = {
  keep: 'Quality and times stay. What does not pass is not counted as sent: as soon as it may pass, what is new goes.',
  drop: 'Quality and times stay. What does not pass is not counted as sent: as soon as it may pass, what is new goes.',
  repeats: 'Quality and times stay. What has to go at least every so often goes all the same.',
  set: 'It has the worst quality and the newest time of what stands in its expression. Without an answer it is bad, without a value.',
  rename: 'Value, quality and time stay. All members under it move with it.',
  leave: 'What is left out makes no message speak either.',
  convert: 'Quality and time stay. What does not become the other type is bad, without a value. Times as numbers are ms since 1970.',
  lookup: 'What it gives has quality and time of what is looked up. What the table does not have has no value, unless you say which.',
  record:
    'What it gives has the worse quality of the row and of what is looked up, and its time. What there is no row for has no value; while the source does not answer, what it said last goes as uncertain. As soon as a row is another, what is sent has changed.',
  smooth: 'A first-order filter: after this time it has gone 63 % of the way. Quality and time stay; a bad value leaves it where it was.',
  bridge: 'The last good value goes as uncertain (last usable) with its own time; a line as uncertain (sub-normal) with the time of now.',
  split: 'Each item goes as a message of its own with all that is not in the list. Quality and times stay.',
  window:
    'The newest time and the worst quality of what came in; bad ones are left out of it, which makes the rest uncertain. In lists each keeps its own; places that none came for are bad, without a value.',
  script: 'What it leaves as it was keeps quality and time; what it changes or adds has the worst quality and the newest time of the message.',
}

/** What the kinds are for, in the order in which they are offered. */
export const stepOffers: { kind: StepKind; says: string }[] = [
  { kind: 'keep', says: 'only what a condition holds for' },
  { kind: 'drop', says: 'what a condition holds for' },
  { kind: 'repeats', says: 'what says the same again' },
  { kind: 'set', says: 'a member to an expression' },
  { kind: 'rename', says: 'a member, and all under it' },
  { kind: 'leave', says: 'members, or all but some' },
  { kind: 'convert', says: 'to another unit or type' },
  { kind: 'lookup', says: 'in a table of yours' },
  { kind: 'record', says: 'in the rows of a query or a document' },
  { kind: 'smooth', says: 'numbers that jitter' },
  { kind: 'bridge', says: 'in which a value is bad' },
  { kind: 'split', says: 'a list into messages' },
  { kind: 'window', says: 'average, least, most, sum, or lists of all' },
  { kind: 'script', says: 'in JavaScript' },
]

/** As a kind of step begins. */
export function freshStep(kind: StepKind): Step {
  switch (kind) {
    case 'keep':
    case 'drop':
      return { kind, condition: '', unknown: 'pass' }
    case 'repeats':
      return { kind }
    case 'set':
      return { kind, member: '', expression: '' }
    case 'rename':
      return { kind, member: '', to: '' }
    case 'leave':
      return { kind, members: [], but: false }
    case 'convert':
      return { kind, member: '' }
    case 'lookup':
      return { kind, member: '', table: { columns: ['', ''], rows: [] } }
    case 'record':
      return { kind, member: '', sourceId: '', at: '', key: '', columns: [] }
    case 'smooth':
      return { kind, members: [], seconds: 10 }
    case 'bridge':
      return { kind, members: [], by: 'last', seconds: 60 }
    case 'split':
      return { kind, member: '' }
    case 'window':
      return { kind, seconds: 60, by: 'average' }
    case 'script':
      return { kind, code: '// message, quality, time, equipment, state, console\nreturn message', gives: [] }
  }
}

/** `0.42 µs`, `1.3 ms`. */
export const costWords = (microseconds: number): string =>
  microseconds < 1000 ? `${Number(microseconds.toPrecision(2))} µs` : `${Number((microseconds / 1000).toPrecision(2))} ms`
