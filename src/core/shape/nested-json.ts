import type { PlanEquipment } from '~/contract/publication'
import { chooser, markOf, newest, Take } from './choose'
import { type JsonHow, REGISTERED } from './flat-json'
import { isObject, readingOf, readJson, timeSchema } from './json-reading'
import { valueSchema } from './schema'
import type { Decoded, Part, Reading, Shape } from './shape'
import { jsonTime, jsonValue, readTime, rememberedValue } from './text'
import { anyTaken, atKey, listsOf, type Node, treeOf } from './tree'

/** Writes equipment as its class nests: parts are objects, lists arrays. Without the braces, each field with a comma before it. */
export function nestedWriter(how: JsonHow, one: PlanEquipment): (part: Part, at: number, whole: boolean) => string {
  const { members } = one
  const text = jsonValue(how)
  const texts = members.map(() => rememberedValue(text))
  const { take, choose } = chooser(how, members.length, listsOf(members))
  const marks = members.map((m) => `${JSON.stringify(m.key)}:`)
  const root = treeOf(members)
  let cells: Part['cells'] = []
  type Emit = () => string
  const value = (i: number): string => {
    const t = take[i]!
    return t === Take.value ? texts[i]!(cells[i]!.value) : t === Take.lastGood ? texts[i]!(cells[i]!.goodValue) : 'null'
  }
  /** Fields of an object, each with a comma before it; nothing for what is left out. */
  const fieldsOf = (fields: readonly [string, Node][]): Emit => {
    const emits = fields.map(([name, node]) => {
      const key = `,${JSON.stringify(name)}:`
      if ('leaf' in node) return () => (take[node.leaf] === Take.nothing ? '' : key + value(node.leaf))
      const inner = emitOf(node)
      return () => (anyTaken(node, take) ? key + inner() : '')
    })
    return () => {
      let out = ''
      for (let i = 0; i < emits.length; i++) out += emits[i]!()
      return out
    }
  }
  const emitOf = (node: Node): Emit => {
    if ('leaf' in node) return () => (node.leaf < 0 || take[node.leaf] === Take.nothing ? 'null' : value(node.leaf))
    if ('items' in node) {
      const items = node.items.map(emitOf)
      // A list keeps its places: what is left out of it is an empty object, or null.
      return () => `[${items.map((e) => e()).join(',')}]`
    }
    const fields = fieldsOf(node.fields)
    return () => `{${fields().slice(1)}}`
  }
  const fields = fieldsOf(root.fields)
  return (part, at, whole) => {
    choose(part, whole)
    cells = part.cells
    let body = fields()
    let quality = ''
    for (let i = 0; i < members.length; i++) {
      const cell = cells[i]!
      if (cell.status >>> 30 === 0 || take[i] === Take.nothing) continue
      quality += `${quality ? ',' : ''}${marks[i]}${JSON.stringify(markOf(cell, take[i]!, at))}`
    }
    if (quality) body += `,"quality":{${quality}}`
    return body
  }
}

/** Reads an object that `nestedWriter` wrote. */
export function readNested(json: unknown, one: PlanEquipment, name: string | null, at: number | null): Reading[] {
  const marks = isObject(json) && isObject(json.quality) ? json.quality : {}
  return one.members.flatMap((m) => {
    const raw = atKey(json, m.key)
    return raw === undefined ? [] : [readingOf(name, m, raw, marks[m.key], at)]
  })
}

/** JSON Schema (2020-12) of the nested members. */
export function nestedSchema(how: JsonHow, one: PlanEquipment) {
  const always = how.members === 'all' && how.bad !== 'left-out' && how.nulls === 'null'
  const of = (node: Node): Record<string, unknown> => {
    if ('leaf' in node) return node.leaf < 0 ? { type: 'null' } : valueSchema(one.members[node.leaf]!, how)
    if ('items' in node) return { type: 'array', minItems: node.items.length, maxItems: node.items.length, prefixItems: node.items.map((n) => of(n)) }
    return {
      type: 'object',
      properties: Object.fromEntries(node.fields.map(([name, n]) => [name, of(n)])),
      ...(always && { required: node.fields.map(([name]) => name) }),
      additionalProperties: false,
    }
  }
  const root = of(treeOf(one.members)) as { properties: Record<string, unknown>; required?: string[] }
  return {
    properties: {
      ...root.properties,
      quality: {
        description: 'Members that are not good, by their names parted by dots, and why',
        type: 'object',
        additionalProperties: { type: 'string', pattern: '^(uncertain|bad)' },
      },
    },
    required: root.required ?? [],
  }
}

const OF_ALL = 'equipment'

/**
 * JSON (RFC 8259) that nests as the class does. One message an equipment, or one for all: then `equipment` holds an object
 * an equipment by its name, each with its own `at`.
 *
 * `{"at":"2026-03-04T14:07:12.481Z","zones":[{"temperature":689.6},{"temperature":null}],"quality":{"zones.1.temperature":"bad: sensor fault"}}`
 */
export const nestedJson: Shape<'nested-json'> = {
  kind: 'nested-json',
  label: 'Nested JSON',
  standard: 'RFC 8259',
  reserved: () => ['at', 'quality'],
  contentType: (s) => (s.framing === 'registry' ? 'application/octet-stream' : 'application/json'),
  grouping: (s) => s.per,
  summary: (s) =>
    `nested JSON as the class${s.per === 'publication' ? ', all equipment in one message' : ''}${s.members === 'changed' ? ', only what changed' : ''}${s.framing === 'registry' ? REGISTERED : ''}`,
  encoder(settings, scope) {
    const time = jsonTime(settings.time, settings.zone)
    const bodies = scope.equipment.map((one) => nestedWriter(settings, one))
    if (settings.per === 'equipment')
      return ({ parts, now, whole }) => {
        const at = newest(parts[0]!.cells, now)
        return { at, payload: `{"at":${time(at)}${bodies[0]!(parts[0]!, at, whole)}}` }
      }
    const names = scope.equipment.map((one) => `${JSON.stringify(one.name)}:`)
    return ({ parts, now, whole }) => {
      let at = Number.NEGATIVE_INFINITY
      const all = parts.map((part, i) => {
        const own = newest(part.cells, now)
        if (own > at) at = own
        const body = bodies[i]!(part, own, whole)
        return body === '' && !whole ? '' : `${names[i]}{"at":${time(own)}${body}}`
      })
      return { at, payload: `{"at":${time(at)},"${OF_ALL}":{${all.filter((t) => t !== '').join(',')}}}` }
    }
  },
  decoder(settings, scope) {
    return (bytes): Decoded => {
      const read = readJson(bytes)
      if ('problem' in read) return read
      const { json } = read
      if (!isObject(json)) return { problem: 'It is not a JSON object', at: 0 }
      const at = readTime(json.at, settings.time)
      if (settings.per === 'equipment') return { kind: 'state', at, readings: readNested(json, scope.equipment[0]!, null, at) }
      const all = json[OF_ALL]
      if (!isObject(all)) return { problem: `It has no object called ${OF_ALL}`, at: null }
      const readings = scope.equipment.flatMap((one) => {
        const own = all[one.name]
        return isObject(own) ? readNested(own, one, one.name, readTime(own.at, settings.time)) : []
      })
      return { kind: 'state', at, readings }
    }
  },
  describe(settings, scope) {
    const of = (one: PlanEquipment) => {
      const { properties, required } = nestedSchema(settings, one)
      return {
        title: one.className,
        type: 'object',
        properties: { at: timeSchema(settings.time), ...properties },
        required: ['at', ...required],
        additionalProperties: false,
      }
    }
    const $schema = 'https://json-schema.org/draft/2020-12/schema'
    if (settings.per === 'equipment') return { language: 'schema', content: { $schema, ...of(scope.equipment[0]!) } }
    return {
      language: 'schema',
      content: {
        $schema,
        type: 'object',
        properties: {
          at: timeSchema(settings.time),
          [OF_ALL]: {
            type: 'object',
            properties: Object.fromEntries(scope.equipment.map((one) => [one.name, of(one)])),
            additionalProperties: false,
          },
        },
        required: ['at', OF_ALL],
        additionalProperties: false,
      },
    }
  },
}
