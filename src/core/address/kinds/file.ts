import { type FileAddress, typesOf } from '~/contract/addresses/file'
import type { TopicRule } from '~/contract/addresses/text'
import type { FileSettings } from '~/contract/destinations/file'
import { webAddress } from '~/contract/destinations/http'
import { webPlace } from '~/contract/place'
import type { Finding, Resolved } from '~/contract/publication'
import type { ShapeSettings } from '~/contract/shape'
import { isJson, isRows } from '../json-shapes'
import type { AddressKind } from '../kind'
import { some } from '../some'
import type { TemplateProblem } from '../template'
import { type Levels, levelBy, placeProblems } from '../topic-template'

/** So long may a path be, and one level of it, octets: what tells files apart comes behind it. */
const PATH_MAX = 800
const LEVEL_MAX = 160
const octets = (text: string) => new TextEncoder().encode(text).length
/** What file systems and stores give a meaning of their own, or do not take. */
const BAD = /[\\:*?"<>|\p{Cc}]/u

/** A name as one level of a path: no level is empty, hidden, or leads elsewhere. */
const fileLevels: Levels = {
  separator: '/',
  level: (rule: TopicRule, name: string) =>
    levelBy(rule, name)
      .replaceAll(/[\\:*?"<>|\p{Cc}]/gu, '-')
      .replace(/^[.\s]+/, '-')
      .replace(/[.\s]+$/, ''),
}

function templateFaults(template: string): TemplateProblem[] {
  const out = placeProblems(template, (text) => {
    const bad = BAD.exec(text)
    return bad && { at: bad.index, message: `${bad[0]} may not stand in the name of a file` }
  })
  const levels = template.replaceAll(/\{[^{}]*\}/g, 'x').split('/')
  if (levels.some((level) => level === '')) out.push({ at: 0, message: 'An empty level: two slashes, or one at an end' })
  if (levels.some((level) => level.startsWith('.'))) out.push({ at: 0, message: 'No level may begin with a dot' })
  return out
}

const stops = (section: Finding['section'], message: string, hint: string): Finding => ({ severity: 'stops', section, message, hint })
const wrongPath = (place: string) => BAD.test(place) || place.split('/').some((level) => level === '' || level.startsWith('.') || level.trim() === '')

/** The folder in which all files of a place lie, with a slash at its end: what waits for values may be any. */
function folderOf(place: Resolved): string {
  const known = typeof place === 'string' ? place : typeof place[0] === 'string' ? place[0] : ''
  return known.slice(0, known.lastIndexOf('/') + 1)
}

/** What two begin with, in whole levels. */
function common(a: string, b: string): string {
  let same = 0
  while (same < a.length && a[same] === b[same]) same++
  return a.slice(0, a.slice(0, same).lastIndexOf('/') + 1)
}

const within = (folder: string, of: string) => folder.startsWith(of) || of.startsWith(folder)

/** A place as a pattern, in which what waits for values is any text of one level. */
function patternOf(resolved: Resolved): RegExp {
  const parts = typeof resolved === 'string' ? [resolved] : resolved
  const text = parts.map((p) => (typeof p === 'string' ? p.replaceAll(/[.*+?^${}()|[\]\\]/g, '\\$&') : '[^/]*')).join('')
  return new RegExp(`^${text}$`, 'u')
}

export const fileAddress: AddressKind<'file'> = {
  nouns: ['path', 'paths'],
  fresh: { kind: 'file', topic: '{path}/{time.year}-{time.month}-{time.day}', topicRule: 'slug', types: '' },
  words: { topicRule: 'names in the topic', types: 'types of columns' },
  levels: fileLevels,
  lastWord: 'acknowledged',
  together: 'files are written one after the other',
  texts: ({ topic, topicRule }) => ({ place: topic, rule: topicRule, key: '', headers: [], responseTopic: '' }),
  placeProblems: templateFaults,
  placeFindings(places) {
    const long = places.filter((p) => octets(p) > PATH_MAX || p.split('/').some((level) => octets(level) > LEVEL_MAX))
    const wrong = places.filter(wrongPath)
    return [
      ...(long.length > 0
        ? [stops('address', `Longer than ${PATH_MAX} octets, or ${LEVEL_MAX} in one level: ${some(long)}`, 'Shorten the template')]
        : []),
      ...(wrong.length > 0 ? [stops('address', `No path of a file: ${some(wrong)}`, 'Use the filter slug, or names of letters and digits')] : []),
    ]
  },
  safety: () => [],
  beyond: (a, shape, to) => [...shapeFindings(shape, to), ...typeFindings(a, to)],
  prescribed: (a) => a,
  // There are no degrees: each goes out until it lies in a finished file.
  sentAs: ({ types }) => ({
    assurance: 'acknowledged',
    kept: false,
    expiryS: null,
    how: [...(typesOf(types) ?? [])].map((t) => t.join(' ')).join(', '),
  }),
  beside: (place, suffix) => place + suffix,
  reads: (places) => {
    const folders = places.filter((p) => p !== '').map(folderOf)
    return folders.length === 0 ? [] : [`/${folders.reduce(common)}`]
  },
  overlap: within,
  mayBecome: (resolved, place) => patternOf(resolved).test(place),
  apart: (m, text) => text(m.place),
  leftBehind: () => [],
  leaves: { nouns: ['file', 'files'], taken: false },
  bindings: () => ({ protocol: 'file', channel: {}, operation: () => ({}) }),
  server: ({ store, url, bucket, folder }) => {
    const there = store === 'objects' ? webAddress(url) : null
    return there
      ? { host: `${there.host}/${bucket}`, protocol: there.protocol.replace(/:$/, ''), version: '', headers: false }
      : { host: folder, protocol: 'file', version: '', headers: false }
  },
  reached: ({ store, url }) => {
    const there = store === 'objects' ? webAddress(url) : null
    return there ? [webPlace(there)] : []
  },
  narrows: ({ format }) => (format === 'ndjson' ? null : 'format'),
  summary: ({ types }: FileAddress) => (types === '' ? 'types as values are' : types),
}

function shapeFindings(shape: ShapeSettings, { format, idColumn }: FileSettings): Finding[] {
  const lines = format === 'ndjson'
  const events = shape.kind === 'cloudevents' && shape.mode !== 'structured'
  if (events || !(lines ? isJson(shape) : isRows(shape)))
    return [
      stops(
        'through',
        lines
          ? 'A file of lines takes JSON objects, and messages of this shape are none, or have a part that travels beside them'
          : 'Files there hold fields as columns, and messages of this shape are no plain JSON objects',
        lines ? 'Take a shape in JSON without compression' : 'Take the shape Rows as JSON, or flat JSON, without compression',
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

function typeFindings({ types }: FileAddress, { format, idColumn }: FileSettings): Finding[] {
  const known = typesOf(types)
  if (known?.has(idColumn)) return [stops('address', `Types of columns: ${idColumn} is filled by Embrik`, 'Name columns of the message')]
  if (format === 'parquet' || !known || known.size === 0) return []
  return [
    {
      severity: 'warns',
      section: 'address',
      message: 'Types of columns have no meaning in files of text',
      hint: 'Take them out, or Parquet as format',
    },
  ]
}
