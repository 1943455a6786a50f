import type { SourceKind } from '~/contract/source'
import { intervalText } from '../value/interval'

/** A piece of a sentence: plain text, or a word that stands for the columns that it opens. */
export type Piece = string | { word: string; keys: readonly string[] }

/** What a sentence is about; its figure or its count stands under it. */
export type SentenceTopic = 'name' | 'value' | 'read' | 'scaling' | 'deadband' | 'range' | 'hold' | 'history' | 'access' | 'chart'

export interface Sentence {
  topic: SentenceTopic
  pieces: readonly Piece[]
}

/** What sentences need to know beside the texts of a tag's columns. */
export interface SentenceContext {
  kind: SourceKind | undefined
  /** How often the source is read, ms; null: it speaks by itself. */
  sourceRateMs: number | null
  /** Rate of the sampling group that is named, ms. */
  groupRateMs: number | null
  /** The address as its source's settings want it shown. */
  address: string
}

type Cell = (key: string) => string

const word = (text: string, ...keys: string[]): Piece => ({ word: text, keys })
const withUnit = (text: string, unit: string) => (unit === '' ? text : `${text} ${unit}`)
const either = (text: string, instead: string) => (text === '' ? instead : text)
const between = (low: string, high: string, unit: string) => withUnit(`${either(low, '?')} to ${either(high, '?')}`, unit)
const msText = (text: string) => (Number.isFinite(Number(text)) ? intervalText(Number(text)) : text)

/** A tag's properties as short sentences, from the texts of its columns; each word says which columns it stands for. */
export function sentencesOf(cell: Cell, context: SentenceContext): Sentence[] {
  const numeric = cell('type') === 'number' || cell('type') === 'integer'
  const scalable = cell('type') === 'number' || scalingKeys.some((key) => cell(key) !== '')
  const sentences: (Sentence | null)[] = [
    {
      topic: 'name',
      pieces: ['It is called ', word(cell('name'), 'name'), ': ', word(either(cell('description'), 'not described'), 'description'), '.'],
    },
    read(cell, context),
    scalable ? scaling(cell) : null,
    {
      topic: 'value',
      pieces: ['It is shown ', word(either(cell('format'), 'as it comes'), 'format'), ' in ', word(either(cell('unit'), 'no unit'), 'unit'), '.'],
    },
    numeric ? deadband(cell) : null,
    numeric ? range(cell) : null,
    hold(cell),
    history(cell),
    {
      topic: 'access',
      pieces:
        cell('access') === 'read-write'
          ? ['It may be ', word('read and written', 'access'), '.']
          : ['It may be ', word('read', 'access'), ', not written.'],
    },
    numeric ? chart(cell) : null,
  ]
  return sentences.filter((sentence) => sentence !== null)
}

export const scalingKeys: readonly string[] = ['raw_low', 'raw_high', 'scaled_low', 'scaled_high']

function read(cell: Cell, { kind, sourceRateMs, groupRateMs, address }: SentenceContext): Sentence {
  const verb = kind === 'simulated' ? 'It is made up by ' : kind === 'mqtt' ? 'It takes ' : 'It reads '
  const own = cell('rate_ms')
  const group = cell('group')
  const rate =
    own !== ''
      ? `${msText(own)}, at its own rate`
      : group !== ''
        ? `${groupRateMs === null ? '' : `${intervalText(groupRateMs)}, `}with the group ${group}`
        : sourceRateMs === null
          ? null
          : `${intervalText(sourceRateMs)}, with its source`
  return {
    topic: 'read',
    pieces: [
      verb,
      word(address, 'address'),
      ' as ',
      word(cell('type'), 'type'),
      rate === null ? ', ' : ', every ',
      word(rate ?? 'whenever its source speaks', 'rate_ms', 'group'),
      '.',
    ],
  }
}

function scaling(cell: Cell): Sentence {
  if (scalingKeys.every((key) => cell(key) === ''))
    return { topic: 'scaling', pieces: ['What is read is ', word('taken as it is', ...scalingKeys, 'clamp'), ', not scaled.'] }
  return {
    topic: 'scaling',
    pieces: [
      'Raw ',
      word(between(cell('raw_low'), cell('raw_high'), ''), 'raw_low', 'raw_high'),
      ' is ',
      word(between(cell('scaled_low'), cell('scaled_high'), cell('unit')), 'scaled_low', 'scaled_high'),
      '; what lies outside is ',
      ...(cell('clamp') === 'yes' ? [word('held at the end', 'clamp'), ', marked uncertain.'] : [word('carried on along the line', 'clamp'), '.']),
    ],
  }
}

function deadband(cell: Cell): Sentence {
  const size = cell('deadband')
  if (size === '' || size === '0') return { topic: 'deadband', pieces: [word('Every change', 'deadband'), ' counts.'] }
  const text = size.endsWith('%') ? `${size} of its range` : withUnit(size, cell('unit'))
  return { topic: 'deadband', pieces: ['A change counts beyond ', word(text, 'deadband'), '.'] }
}

function range(cell: Cell): Sentence {
  if (cell('low') === '' && cell('high') === '') return { topic: 'range', pieces: [word('Any value', 'low', 'high'), ' is expected.'] }
  return {
    topic: 'range',
    pieces: [
      'Expected is ',
      word(between(cell('low'), cell('high'), cell('unit')), 'low', 'high'),
      '; outside of it the tag is listed as out of range.',
    ],
  }
}

function hold(cell: Cell): Sentence {
  const first = cell('initial')
  const held = {
    nothing: 'without a value',
    engine: 'with its last value, unless the machine started anew,',
    machine: 'with its last value',
  }[cell('hold')]
  return {
    topic: 'hold',
    pieces: [
      'After a start it stands ',
      word(held ?? cell('hold'), 'hold'),
      ' until the device answers; before its first value ',
      word(first === '' ? 'nothing stands for it' : `${withUnit(first, cell('unit'))} stands for it`, 'initial'),
      '.',
    ],
  }
}

function history(cell: Cell): Sentence {
  if (cell('history') !== 'yes') return { topic: 'history', pieces: ['Its past is ', word('not kept', 'history'), '.'] }
  const size = cell('history_deadband')
  const beyond =
    size === '' || size === '0'
      ? 'on every change'
      : `on a change beyond ${size.endsWith('%') ? `${size} of its range` : withUnit(size, cell('unit'))}`
  const least = cell('history_min_ms')
  const most = cell('history_max_ms')
  return {
    topic: 'history',
    pieces: [
      'It is ',
      word('to be kept', 'history'),
      ' ',
      word(beyond, 'history_deadband'),
      ', at most ',
      word(least === '' ? 'as often as it changes' : `every ${msText(least)}`, 'history_min_ms'),
      ', at least ',
      word(most === '' ? 'whenever it changes' : `every ${msText(most)}`, 'history_max_ms'),
      '.',
    ],
  }
}

function chart(cell: Cell): Sentence {
  const [low, high] = [cell('chart_low'), cell('chart_high')]
  const ends =
    low === '' && high === ''
      ? 'as far as its values go'
      : `from ${either(low, 'its least')} to ${withUnit(either(high, 'its greatest'), cell('unit'))}`
  return {
    topic: 'chart',
    pieces: [
      'Charts show it ',
      word(ends, 'chart_low', 'chart_high'),
      ', in ',
      word(cell('chart_line') === 'steps' ? 'steps' : 'straight lines', 'chart_line'),
      '.',
    ],
  }
}

/** The sentence as one text, for those who hear it. */
export const sentenceText = (sentence: Sentence) => sentence.pieces.map((piece) => (typeof piece === 'string' ? piece : piece.word)).join('')
