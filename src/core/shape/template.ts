import type { PlanEquipment } from '~/contract/publication'
import type { Settings } from '~/contract/shape'
import type { DataType } from '~/contract/tag'
import { fillParts, parseTemplate, type TemplatePart, type TemplateProblem } from '../address/template'
import type { Cell } from '../publication/cells/cell'
import type { Scalar } from '../value/deadband'
import { jsonFaultAt } from '../value/json-fault'
import { own } from '../value/own'
import { qualityOf, reasonOf } from '../value/quality'
import { chooser, newest, Take, timeOr } from './choose'
import { readJson } from './json-reading'
import type { Decoded, Encoder, Reading, Scope, Shape } from './shape'
import { fromJson, jsonTime, jsonValue, plainValue, readTime } from './text'

type How = Settings<'template'>
type Aspect = 'value' | 'quality' | 'reason' | 'time' | 'unit' | 'age'

/** What a placeholder stands for: something of a member, or of the equipment or message. */
type Meaning = { member: number; aspect: Aspect } | { message: 'at' | 'now' | 'seq' } | { fixed: string }

const aspects: Aspect[] = ['quality', 'reason', 'time', 'unit', 'age']

/** What `${...}` may name for an equipment; of a single member `${value}`, `${quality}` and so on stand without its name. */
export function placeholdersOf(one: PlanEquipment | undefined, per: How['per']): { name: string; help: string }[] {
  const list = [
    { name: 'at', help: 'newest device time in the message' },
    { name: 'now', help: 'when the message is made' },
    { name: 'seq', help: 'its number, counted up by one' },
    { name: 'equipment', help: one?.name ?? 'name of the equipment' },
    { name: 'path', help: one ? one.path.join('/') : 'names from the top' },
    { name: 'class', help: one?.className ?? 'its class' },
  ]
  const of = (prefix: string, label: string) => [
    ...(prefix ? [{ name: prefix, help: label }] : [{ name: 'value', help: label }]),
    ...aspects.map((a) => ({ name: prefix ? `${prefix}.${a}` : a, help: `${a} of ${label}` })),
  ]
  if (per === 'member') return [...list, { name: 'member', help: 'name of the member' }, ...of('', 'the value')]
  const facts = Object.keys(one?.facts ?? {}).map((f) => ({ name: `fact.${f}`, help: String(one!.facts[f]) }))
  return [...list, ...facts, ...(one?.members ?? []).flatMap((m) => of(m.key, m.label || m.key))]
}

function meaningOf(name: string, one: PlanEquipment, per: How['per']): Meaning | null {
  if (name === 'at' || name === 'now' || name === 'seq') return { message: name }
  if (name === 'equipment') return { fixed: one.name }
  if (name === 'path') return { fixed: one.path.join('/') }
  if (name === 'class') return { fixed: one.className }
  if (name.startsWith('fact.')) return { fixed: String(own(one.facts, name.slice(5)) ?? '') }
  if (per === 'member') {
    if (name === 'member') return { fixed: one.members[0]!.key }
    if (name === 'value') return { member: 0, aspect: 'value' }
    return aspects.includes(name as Aspect) ? { member: 0, aspect: name as Aspect } : null
  }
  const exact = one.members.findIndex((m) => m.key === name)
  if (exact >= 0) return { member: exact, aspect: 'value' }
  const dot = name.lastIndexOf('.')
  const member = dot < 0 ? -1 : one.members.findIndex((m) => m.key === name.slice(0, dot))
  const aspect = name.slice(dot + 1) as Aspect
  return member >= 0 && aspects.includes(aspect) ? { member, aspect } : null
}

/** The template cut into its pieces, as `${name|filter}`; braces without a dollar are text. */
export function cutBody(body: string): { parts: TemplatePart[]; problems: TemplateProblem[] } {
  const parts: TemplatePart[] = []
  const problems: TemplateProblem[] = []
  let last = 0
  for (const m of body.matchAll(/\$\{([^{}]*)\}|\$\{/g)) {
    if (m.index > last) parts.push(body.slice(last, m.index))
    last = m.index + m[0].length
    if (m[1] === undefined) {
      problems.push({ at: m.index, message: 'A placeholder that does not end: write ${name}' })
      continue
    }
    const one = parseTemplate(`{${m[1]}}`, () => true, '')
    for (const p of one.problems) problems.push({ at: m.index, message: p.message })
    const part = one.parts[0]
    if (part && typeof part !== 'string') parts.push({ ...part, at: m.index })
  }
  if (last < body.length) parts.push(body.slice(last))
  return { parts, problems }
}

/** For each piece whether it stands inside a JSON text, in quotes. */
function insides(parts: readonly TemplatePart[]): boolean[] {
  let inside = false
  return parts.map((p) => {
    if (typeof p !== 'string') return inside
    for (let i = 0; i < p.length; i++) {
      if (p[i] === '\\' && inside) i++
      else if (p[i] === '"') inside = !inside
    }
    return inside
  })
}

/** Everything that is wrong with a template for one equipment, with the place in it. */
export function templateFaults(how: How, one: PlanEquipment): TemplateProblem[] {
  const { parts, problems } = cutBody(how.body)
  const out = [...problems]
  for (const p of parts)
    if (typeof p !== 'string' && !meaningOf(p.key, one, how.per))
      out.push({ at: p.at, message: `\${${p.key}} is nothing that ${one.className || one.name} has` })
  if (how.form !== 'json' || out.length > 0) return out
  // Of messages about one member, one for each type.
  const types = new Map(one.members.map((m) => [m.dataType, m]))
  for (const about of how.per === 'member' ? [...types.values()].map((m) => ({ ...one, members: [m] })) : [one]) {
    const fault = jsonFault(how, about, parts)
    if (fault) return [fault]
  }
  return out
}

/** Whether it is JSON whatever is filled in; else where not, with the text as it then reads. */
function jsonFault(how: How, one: PlanEquipment, parts: readonly TemplatePart[]): TemplateProblem | null {
  const slots = compile(how, one)
  const fills = slots.map((s) => (typeof s === 'string' ? [s] : trialsOf(how, s)))
  const most = Math.max(1, ...fills.map((f) => f.length))
  for (let trial = 0; trial < most; trial++) {
    const texts = fills.map((f) => f[trial % f.length]!)
    const filled = texts.join('')
    const at = jsonFaultAt(filled)
    if (at === null) continue
    let from = 0
    const i = texts.findIndex((text) => {
      from += text.length
      return at < from
    })
    const place = i < 0 ? parts.length - 1 : i
    const inside = i < 0 ? 0 : at - (from - texts[i]!.length)
    const shown = `${at > SHOWN ? '…' : ''}${filled.slice(Math.max(0, at - SHOWN), at)}▸${filled.slice(at, at + SHOWN)}${filled.length > at + SHOWN ? '…' : ''}`
    return {
      at: startOf(parts, how.body, place) + (typeof parts[place] === 'string' ? inside : 0),
      message: `Filled in it reads ${shown}, which is no JSON`,
    }
  }
  return null
}

/** So many characters are shown to each side of a fault. */
const SHOWN = 24

/** Where a piece begins in the template. */
function startOf(parts: readonly TemplatePart[], body: string, place: number): number {
  let at = 0
  for (let i = 0; i < place; i++) {
    const p = parts[i]!
    at = typeof p === 'string' ? at + p.length : body.indexOf('}', p.at) + 1
  }
  return at
}

/** What a placeholder may become, one of each kind of text. */
function trialsOf(how: How, slot: Slot): string[] {
  // Inside of quotes texts are escaped: nothing, letters, and what begins with a backslash.
  if (slot.inside) return ['x', '', '\\"']
  if (slot.filters.length > 0) return ['"x"']
  const { meaning } = slot
  const text = '"x"'
  const time = how.time === 'iso' || how.time === 'local' ? text : '-0.5'
  if ('fixed' in meaning) return [JSON.stringify(meaning.fixed)]
  if ('message' in meaning) return [meaning.message === 'seq' ? '9' : time]
  if (meaning.aspect === 'time') return [time]
  if (meaning.aspect === 'age') return ['0', '0.5']
  if (meaning.aspect !== 'value') return [text]
  switch (slot.dataType) {
    case 'number':
    case 'integer':
      return ['0', '-1.5', 'null', ...(how.nonFinite === 'text' || how.wholes === 'text' ? [text] : [])]
    case 'boolean':
      return ['true', 'null']
    default:
      return [text, 'null']
  }
}

interface Slot {
  meaning: Meaning
  filters: Extract<TemplatePart, object>['filters']
  inside: boolean
  dataType: DataType
}

function compile(how: How, one: PlanEquipment): (string | Slot)[] {
  const { parts } = cutBody(how.body)
  const inside = insides(parts)
  return parts.flatMap((p, i): (string | Slot)[] => {
    if (typeof p === 'string') return [p]
    const meaning = meaningOf(p.key, one, how.per)
    if (!meaning) return []
    const dataType: DataType =
      'member' in meaning && meaning.aspect === 'value'
        ? one.members[meaning.member]!.dataType
        : 'message' in meaning && meaning.message === 'seq'
          ? 'integer'
          : 'text'
    return [{ meaning, filters: p.filters, inside: inside[i]!, dataType }]
  })
}

function csvField(text: string): string {
  return /[",\r\n;\t]/.test(text) ? `"${text.replaceAll('"', '""')}"` : text
}

function encoderOf(how: How, one: PlanEquipment): Encoder {
  const pieces = compile(how, one)
  const json = jsonValue(how)
  const plain = plainValue(how)
  const time = jsonTime(how.time, how.zone)
  const { take, choose } = chooser(how, one.members.length)
  const asText = (slot: Slot, raw: Scalar): string => {
    let text = plain(raw)
    if (slot.filters.length > 0) text = fillParts([{ key: '', filters: slot.filters, at: 0 }], () => text).text
    if (how.form === 'csv') return csvField(text)
    return how.form === 'json' && slot.inside ? JSON.stringify(text).slice(1, -1) : how.form === 'json' ? JSON.stringify(text) : text
  }
  /** A value where it stands: outside of quotes in JSON with its own type. */
  const written = (slot: Slot, raw: Scalar): string =>
    how.form === 'json' && !slot.inside && slot.filters.length === 0 ? json(raw) : asText(slot, raw)
  const timed = (slot: Slot, at: number): string => {
    const text = time(at)
    if (slot.filters.length > 0) return asText(slot, text.replaceAll('"', ''))
    return how.form === 'json' && !slot.inside ? text : text.replaceAll('"', '')
  }
  const ofCell = (slot: Slot, cell: Cell, t: number, aspect: Aspect, unit: string, at: number): string => {
    switch (aspect) {
      case 'value':
        return written(slot, t === Take.value ? cell.value : t === Take.lastGood ? cell.goodValue : null)
      case 'quality':
        return written(slot, qualityOf(cell.status))
      case 'reason':
        return written(slot, cell.status >>> 30 === 0 ? '' : reasonOf(cell.status))
      case 'time':
        return timed(slot, timeOr(cell, at))
      case 'unit':
        return written(slot, unit)
      case 'age':
        return written(slot, t === Take.lastGood ? Math.max(0, at - cell.goodTime) / 1000 : 0)
    }
  }
  return ({ parts, now, seq }) => {
    const part = parts[0]!
    choose(part, true)
    if (how.per === 'member' && take[0] === Take.nothing) return null
    const at = newest(part.cells, now)
    let out = ''
    for (const p of pieces) {
      if (typeof p === 'string') {
        out += p
        continue
      }
      const { meaning } = p
      if ('fixed' in meaning) out += written(p, meaning.fixed)
      else if ('message' in meaning) out += meaning.message === 'seq' ? written(p, seq) : timed(p, meaning.message === 'at' ? at : now)
      else out += ofCell(p, part.cells[meaning.member]!, take[meaning.member]!, meaning.aspect, one.members[meaning.member]!.unit, at)
    }
    return { at, payload: out }
  }
}

/** One of each kind: a template that fits one fits all with the same members and facts. */
function unlike(equipment: readonly PlanEquipment[]): PlanEquipment[] {
  const kinds = new Map<string, PlanEquipment>()
  for (const one of equipment) {
    const kind = `${one.members.map((m) => `${m.key}:${m.dataType}`).join()} ${Object.keys(one.facts).join()}`
    if (!kinds.has(kind)) kinds.set(kind, one)
  }
  return [...kinds.values()]
}

/** What was read at each slot; a text for what stood among other text. */
type Found = { slot: Slot; raw: unknown }[]

const utf8 = new TextDecoder('utf-8', { fatal: true })

/** Reads text by the pieces between placeholders: each ends where the next piece begins. Linear in the length of the text. */
function readPieces(
  pieces: readonly (string | Slot)[],
  text: string,
  from: number,
  unquote: boolean,
): { found: Found } | { problem: string; at: number } {
  const found: Found = []
  let at = from
  for (let i = 0; i < pieces.length; i++) {
    const p = pieces[i]!
    if (typeof p === 'string') {
      if (!text.startsWith(p, at)) return { problem: `Here the template has ${JSON.stringify(p.slice(0, 30))}`, at }
      at += p.length
      continue
    }
    const next = pieces[i + 1]
    if (next !== undefined && typeof next !== 'string') return { problem: 'Two placeholders with nothing between them cannot be told apart', at }
    if (unquote && text[at] === '"') {
      let raw = ''
      let end = at + 1
      for (; end < text.length; end++) {
        if (text[end] !== '"') raw += text[end]
        else if (text[end + 1] === '"') {
          raw += '"'
          end++
        } else break
      }
      found.push({ slot: p, raw })
      at = Math.min(text.length, end + 1)
      continue
    }
    const end = next === undefined ? text.length : text.indexOf(next, at)
    if (end < 0) return { problem: `After this the template has ${JSON.stringify(next!.slice(0, 30))}`, at }
    found.push({ slot: p, raw: text.slice(at, end) })
    at = end
  }
  return at === text.length ? { found } : { problem: 'There is more than the template has', at }
}

/** The template as JSON whose placeholders are marks, matched against what came, whatever the order and the spaces. */
function jsonPattern(pieces: readonly (string | Slot)[]): unknown {
  const text = pieces
    .map((p, i) => {
      if (typeof p === 'string') return p
      // What is always the same may stand anywhere, in the name of a field too.
      if ('fixed' in p.meaning && p.filters.length === 0) {
        const written = JSON.stringify(p.meaning.fixed)
        return p.inside ? written.slice(1, -1) : written
      }
      return p.inside ? `\\uE000${i}\\uE001` : `"\\uE000${i}\\uE001"`
    })
    .join('')
  return JSON.parse(text)
}

function matchJson(pattern: unknown, pieces: readonly (string | Slot)[], json: unknown, found: Found, path: string): string | null {
  if (typeof pattern === 'string' && pattern.includes('\uE000')) {
    const whole = /^\uE000(\d+)\uE001$/.exec(pattern)
    if (whole) {
      const slot = pieces[Number(whole[1])] as Slot
      if (typeof json === 'object' && json !== null) return `${path || 'It'} is no single value`
      found.push({ slot, raw: json })
      return null
    }
    if (typeof json !== 'string') return `${path} is no text`
    const inner = pattern
      .split(/(\uE000\d+\uE001)/)
      .filter((s) => s !== '')
      .map((s) => (s.startsWith('\uE000') ? (pieces[Number(s.slice(1, -1))] as Slot) : s))
    const read = readPieces(inner, json, 0, false)
    if ('problem' in read) return `${path}: ${read.problem}`
    found.push(...read.found)
    return null
  }
  if (Array.isArray(pattern)) {
    if (!Array.isArray(json) || json.length !== pattern.length) return `${path || 'It'} is no list of ${pattern.length}`
    for (let i = 0; i < pattern.length; i++) {
      const wrong = matchJson(pattern[i], pieces, json[i], found, `${path}[${i}]`)
      if (wrong) return wrong
    }
    return null
  }
  if (typeof pattern === 'object' && pattern !== null) {
    if (typeof json !== 'object' || json === null || Array.isArray(json)) return `${path || 'It'} is no object`
    for (const key of Object.keys(pattern)) {
      // A field whose name waits for a value can be any.
      if (key.includes('\uE000')) continue
      if (!Object.hasOwn(json, key)) return `${path ? `${path}.` : ''}${key} is not there`
      const wrong = matchJson(
        (pattern as Record<string, unknown>)[key],
        pieces,
        (json as Record<string, unknown>)[key],
        found,
        path ? `${path}.${key}` : key,
      )
      if (wrong) return wrong
    }
    return null
  }
  return Object.is(pattern, json) ? null : `${path || 'It'} is not ${JSON.stringify(pattern)}`
}

function readingsOf(how: How, one: PlanEquipment, found: Found): { at: number | null; readings: Reading[] } {
  const readings = new Map<number, Reading>()
  let at: number | null = null
  const of = (i: number) => {
    let r = readings.get(i)
    if (!r) {
      r = { equipment: null, member: one.members[i]!.key, value: null, quality: 'good', reason: '', time: null }
      readings.set(i, r)
    }
    return r
  }
  for (const { slot, raw } of found) {
    const { meaning } = slot
    if ('message' in meaning) {
      if (meaning.message === 'at') at = readTime(raw, how.time)
      continue
    }
    if ('fixed' in meaning) continue
    const r = of(meaning.member)
    if (meaning.aspect === 'value') {
      const value = raw === '' && slot.dataType !== 'text' ? null : fromJson(raw, slot.dataType)
      if (value === undefined) Object.assign(r, { quality: 'bad', reason: `not ${slot.dataType}` })
      else r.value = value
    } else if (meaning.aspect === 'quality' && (raw === 'good' || raw === 'uncertain' || raw === 'bad')) r.quality = raw
    else if (meaning.aspect === 'reason') r.reason = String(raw)
    else if (meaning.aspect === 'time') r.time = readTime(raw, how.time)
  }
  for (const r of readings.values()) r.time ??= at
  return { at, readings: [...readings.values()] }
}

/**
 * A text of one's own with placeholders `${temperature}`, `${temperature.quality}`, `${at}`. In JSON what stands outside of
 * quotes is written with its type, inside it is escaped; in CSV it is quoted where it must be. The same template reads messages.
 */
export const freeTemplate: Shape<'template'> = {
  kind: 'template',
  label: 'Free template',
  standard: 'own',
  reserved: () => [],
  contentType: (s) => (s.form === 'json' ? 'application/json' : s.form === 'csv' ? 'text/csv' : 'text/plain'),
  grouping: (s) => s.per,
  summary: (s) =>
    `a template of your own, ${s.form === 'json' ? 'JSON' : s.form === 'csv' ? 'CSV' : 'text'}${s.per === 'member' ? ', one message a member' : ''}`,
  problems: (s, equipment) => [...new Set(unlike(equipment).flatMap((one) => templateFaults(s, one).map((p) => p.message)))].slice(0, 5),
  encoder: (settings, scope) => encoderOf(settings, scope.equipment[0]!),
  decoder(settings, scope: Scope) {
    const one = scope.equipment[0]!
    const pieces = compile(settings, one)
    const pattern = settings.form === 'json' && templateFaults(settings, one).length === 0 ? jsonPattern(pieces) : null
    return (bytes): Decoded => {
      if (settings.form === 'json') {
        const read = readJson(bytes)
        if ('problem' in read) return read
        if (pattern === null) return { problem: 'The template itself is not JSON', at: null }
        const found: Found = []
        const wrong = matchJson(pattern, pieces, read.json, found, '')
        return wrong ? { problem: wrong, at: null } : { kind: 'state', ...readingsOf(settings, one, found) }
      }
      let text: string
      try {
        text = utf8.decode(bytes)
      } catch {
        return { problem: 'It is not UTF-8 text', at: null }
      }
      const read = readPieces(pieces, text, 0, settings.form === 'csv')
      return 'problem' in read ? read : { kind: 'state', ...readingsOf(settings, one, read.found) }
    }
  },
  describe: (settings) => ({ language: 'text', content: settings.body }),
}
