import { columnsOf, type TableAddress } from '~/contract/addresses/table'
import type { TopicRule } from '~/contract/addresses/text'
import { NAME_OCTETS, type TableSettings } from '~/contract/destinations/table'
import { databasePlace } from '~/contract/place'
import type { Finding } from '~/contract/publication'
import type { ShapeSettings } from '~/contract/shape'
import { isRows } from '../json-shapes'
import type { AddressKind } from '../kind'
import { some } from '../some'
import type { TemplateProblem } from '../template'
import { type Levels, levelBy, placeProblems } from '../topic-template'

/** What parts the keys of rows that are replaced from the table that holds them, in what is read. */
const BY = ' by '
const octets = (text: string) => new TextEncoder().encode(text).length

/** A name as that of a table or schema: a dot would part it. */
const tableLevels: Levels = {
  separator: '.',
  level: (rule: TopicRule, name: string) => levelBy(rule, name).replaceAll('.', rule === 'underscores' ? '_' : '-'),
}

/** What is read, as table and keys; without keys all rows stay. */
export function tableRead(read: string): { table: string; keys: string[] } {
  const at = read.lastIndexOf(BY)
  return at < 0 ? { table: read, keys: [] } : { table: read.slice(0, at), keys: columnsOf(read.slice(at + BY.length)) }
}

function templateFaults(template: string): TemplateProblem[] {
  const out = placeProblems(template, (text) => {
    const bad = /["\\/\p{Cc}]/u.exec(text)
    return bad && { at: bad.index, message: `${bad[0]} may not stand in the name of a table` }
  })
  const waits = /\{\s*(value|time)\./.exec(template)
  if (waits) out.push({ at: waits.index, message: 'A table is there before messages come: values and times are columns' })
  return out
}

const stops = (section: Finding['section'], message: string, hint: string): Finding => ({ severity: 'stops', section, message, hint })

const wrongName = (place: string) => {
  const parts = place.split('.')
  return parts.length > 2 || parts.some((p) => p.trim() === '' || /["\\/\p{Cc}]/u.test(p)) || place.includes(BY)
}

export const tableAddress: AddressKind<'table'> = {
  nouns: ['table', 'tables'],
  fresh: { kind: 'table', topic: '{class}', topicRule: 'underscores', keys: '' },
  words: { topicRule: 'names in the topic', keys: 'keys of rows' },
  levels: tableLevels,
  lastWord: 'acknowledged',
  together: 'one reader reads its rows back',
  texts: ({ topic, topicRule }) => ({ place: topic, rule: topicRule, key: '', headers: [], responseTopic: '' }),
  placeProblems: templateFaults,
  placeFindings(places) {
    const long = places.filter((p) => p.split('.').some((name) => octets(name) > NAME_OCTETS))
    const wrong = places.filter(wrongName)
    return [
      ...(long.length > 0 ? [stops('address', `Longer than ${NAME_OCTETS} octets: ${some(long)}`, 'Shorten the template')] : []),
      ...(wrong.length > 0
        ? [stops('address', `No table: ${some(wrong)}`, 'A table, or a schema and a table with one dot between: works.kilns')]
        : []),
    ]
  },
  safety: () => [],
  beyond: (a, shape, to) => [...shapeFindings(shape, to), ...keyFindings(a, to)],
  prescribed: (a) => a,
  // There are no degrees: each goes out until the database has it.
  sentAs: ({ keys }) => ({ assurance: 'acknowledged', kept: false, expiryS: null, how: columnsOf(keys).join(', ') }),
  beside: (place, suffix) => place + suffix.replaceAll('/', '_'),
  reads: (places, _suffixes, { keys }) => {
    const by = columnsOf(keys)
    const tables = new Set(places.flatMap((p) => (typeof p === 'string' && p !== '' ? [p] : [])))
    return [...tables].sort().map((t) => (by.length === 0 ? t : `${t}${BY}${by.join(', ')}`))
  },
  overlap: (a, b) => tableRead(a).table === tableRead(b).table,
  mayBecome: (resolved, place) => resolved === place,
  apart: (m, text) => text(m.place),
  leftBehind: () => [],
  leaves: { nouns: ['row', 'rows'], taken: false },
  bindings: () => ({ protocol: 'postgresql', channel: {}, operation: () => ({}) }),
  server: ({ host, port }) => ({ host: `${host}:${port}`, protocol: 'postgresql', version: '', headers: false }),
  reached: (s) => [databasePlace(s)],
  narrows: ({ idColumn }) => (idColumn === '' ? 'idColumn' : null),
  summary: ({ keys }: TableAddress) => (keys === '' ? 'rows are added' : `one row for each ${columnsOf(keys).join(', ')}`),
}

function shapeFindings(shape: ShapeSettings, { idColumn }: TableSettings): Finding[] {
  if (!isRows(shape))
    return [
      stops(
        'through',
        'A table takes fields as columns, and messages of this shape are no plain JSON objects',
        'Take the shape Rows as JSON, or flat JSON, without compression',
      ),
    ]
  if (shape.kind !== 'rows' || idColumn !== '') return []
  return [
    stops(
      'through',
      'A message of several rows can only be known again by an id, and the destination has no column for it',
      'Give the destination a column of the id, or take a shape with one row a message',
    ),
  ]
}

function keyFindings({ keys }: TableAddress, { idColumn, rowColumn, witness }: TableSettings): Finding[] {
  if (witness && idColumn === '' && columnsOf(keys).length > 0)
    return [stops('address', 'Rows that are replaced can only be known again by an id', 'Give the destination a column of the id, or add rows')]
  const own = columnsOf(keys).filter((k) => k === idColumn || k === rowColumn)
  return own.length > 0 ? [stops('address', `Keys of rows: ${some(own)} is filled by Embrik`, 'Rows are known again by columns of the message')] : []
}
