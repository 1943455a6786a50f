import type { PlanMember } from '~/contract/publication'
import type { Settings } from '~/contract/shape'
import { own } from '../value/own'
import { chooser, markOf, newest, Take } from './choose'
import { isObject, readingOf, readJson, timeSchema } from './json-reading'
import { valueSchema } from './schema'
import type { Decoded, Part, Shape } from './shape'
import { jsonTime, jsonValue, readTime, rememberedValue } from './text'

export type JsonHow = Omit<Settings<'flat-json'>, 'kind' | 'compression' | 'framing' | 'subject'>

/** Writes the body of flat objects, without the message's time: `"temperature":689.6,...,"quality":{...}`. Keys and constants are written once here. */
export function flatWriter(how: JsonHow, members: readonly PlanMember[]): (part: Part, at: number, whole: boolean) => string {
  const text = jsonValue(how)
  const nulls = members.map((m) => `,${JSON.stringify(m.key)}:null`)
  const fixed = members.map((m) => (m.fill.kind === 'constant' ? `,${JSON.stringify(m.key)}:${text(m.fill.value)}` : null))
  const marks = members.map((m) => `${JSON.stringify(m.key)}:`)
  const { take, choose } = chooser(how, members.length)
  const texts = members.map((m) => rememberedValue((v) => `,${JSON.stringify(m.key)}:${text(v)}`))
  return (part, at, whole) => {
    choose(part, whole)
    const { cells } = part
    let body = ''
    let quality = ''
    for (let i = 0; i < members.length; i++) {
      const t = take[i]!
      if (t === Take.nothing) continue
      const cell = cells[i]!
      if (t === Take.value) body += fixed[i] ?? texts[i]!(cell.value)
      else body += t === Take.lastGood ? texts[i]!(cell.goodValue) : nulls[i]!
      if (cell.status >>> 30 !== 0) quality += `${quality ? ',' : ''}${marks[i]}${JSON.stringify(markOf(cell, t, at))}`
    }
    return quality ? `${body},"quality":{${quality}}` : body
  }
}

/** Reads what `flatWriter` writes. */
export function readFlat(json: Record<string, unknown>, members: readonly PlanMember[], at: number | null) {
  const marks = isObject(json.quality) ? json.quality : {}
  return members.flatMap((m) => (Object.hasOwn(json, m.key) ? [readingOf(null, m, json[m.key], own(marks, m.key), at)] : []))
}

/** JSON Schema of a flat object (2020-12). */
export function flatSchema(how: JsonHow, members: readonly PlanMember[]) {
  const always = how.members === 'all' && how.bad !== 'left-out' && how.nulls === 'null'
  return {
    properties: {
      ...Object.fromEntries(members.map((m) => [m.key, valueSchema(m, how)])),
      quality: {
        description: 'Members that are not good, and why',
        type: 'object',
        additionalProperties: { type: 'string', pattern: '^(uncertain|bad)' },
      },
    },
    required: always ? members.map((m) => m.key) : [],
  }
}

/** What is said of payloads that begin with the number of their schema. */
export const REGISTERED = ', with the number of its schema in a registry'

/**
 * One flat JSON object (RFC 8259) an equipment: `at` first, then a key a member; a member of bad quality is null; `quality`
 * lists, as text, only the members that are not good.
 *
 * `{"at":"2026-03-04T14:07:12.481Z","temperature":689.6,"burner":true,"gasFlow":null,"quality":{"gasFlow":"bad: sensor fault"}}`
 */
export const flatJson: Shape<'flat-json'> = {
  kind: 'flat-json',
  label: 'Flat JSON',
  standard: 'RFC 8259',
  reserved: () => ['at', 'quality'],
  contentType: (s) => (s.framing === 'registry' ? 'application/octet-stream' : 'application/json'),
  grouping: () => 'equipment',
  summary: (s) =>
    `flat JSON: a key a member${s.members === 'changed' ? ', only those that changed' : ''}${s.framing === 'registry' ? REGISTERED : ''}`,
  encoder(settings, scope) {
    const body = flatWriter(settings, scope.equipment[0]!.members)
    const time = jsonTime(settings.time, settings.zone)
    return ({ parts, now, whole }) => {
      const part = parts[0]!
      const at = newest(part.cells, now)
      return { at, payload: `{"at":${time(at)}${body(part, at, whole)}}` }
    }
  },
  decoder(settings, scope) {
    const { members } = scope.equipment[0]!
    return (bytes): Decoded => {
      const read = readJson(bytes)
      if ('problem' in read) return read
      if (!isObject(read.json)) return { problem: 'It is not a JSON object', at: 0 }
      const at = readTime(read.json.at, settings.time)
      return { kind: 'state', at, readings: readFlat(read.json, members, at) }
    }
  },
  describe(settings, scope) {
    const { members, className } = scope.equipment[0]!
    const { properties, required } = flatSchema(settings, members)
    return {
      language: 'schema',
      content: {
        $schema: 'https://json-schema.org/draft/2020-12/schema',
        title: className,
        type: 'object',
        properties: { at: timeSchema(settings.time), ...properties },
        required: ['at', ...required],
        additionalProperties: false,
      },
    }
  },
}
