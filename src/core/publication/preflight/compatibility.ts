/** A JSON Schema (2020-12) as shapes write it. */
type Schema = Record<string, unknown>

/** Something that readers of the old schema would not expect. */
export interface Break {
  /** Names from the top, parted by dots; empty: the whole of it. */
  path: string
  what: string
}

const isSchema = (x: unknown): x is Schema => typeof x === 'object' && x !== null && !Array.isArray(x)
const typesOf = ({ type }: Schema): string[] | null => (typeof type === 'string' ? [type] : Array.isArray(type) ? (type as string[]) : null)
/** The values that a schema allows, where it lists them. */
const listedOf = (s: Schema): unknown[] | null => ('const' in s ? [s.const] : Array.isArray(s.enum) ? s.enum : null)
const shown = (x: unknown): string => (typeof x === 'string' ? x : JSON.stringify(x))
const few = (all: readonly unknown[]): string =>
  all.length > 3 ? `${all.slice(0, 3).map(shown).join(', ')} and ${all.length - 3} more` : all.map(shown).join(', ')

/** Whether what a schema describes is among the types of another. */
const typeAmong = (type: string, types: readonly string[]) => types.includes(type) || (type === 'integer' && types.includes('number'))

/** Bounds that may only become narrower: the name, and whether a larger one is narrower. */
const bounds: [name: string, words: string, larger: boolean][] = [
  ['minimum', 'may be less than', true],
  ['exclusiveMinimum', 'may be less than', true],
  ['maximum', 'may be more than', false],
  ['exclusiveMaximum', 'may be more than', false],
  ['minLength', 'may be shorter than', true],
  ['maxLength', 'may be longer than', false],
  ['minItems', 'may have fewer items than', true],
  ['maxItems', 'may have more items than', false],
]

/**
 * What is in messages of the new schema that readers of the old one were not told of: whatever the new one allows and the old one
 * does not, what is left out, and units (`x-unit`), which no reader checks. Schemas as shapes write them: types, properties, items,
 * constants, lists, bounds, patterns and alternatives (JSON Schema 2020-12, validation 6; core 10).
 */
export function breaksOf(before: unknown, after: unknown, path = ''): Break[] {
  if (!isSchema(before) || Object.keys(before).length === 0) return []
  if (!isSchema(after)) return [{ path, what: 'may be anything now' }]
  const out: Break[] = []
  const say = (what: string) => out.push({ path, what })
  const alternatives = (s: Schema) => (['anyOf', 'oneOf'] as const).flatMap((key) => (Array.isArray(s[key]) ? (s[key] as unknown[]) : []))
  const [olds, news] = [alternatives(before), alternatives(after)]
  if (olds.length > 0 || news.length > 0) {
    const open = (news.length > 0 ? news : [after]).filter((n) => !(olds.length > 0 ? olds : [before]).some((o) => breaksOf(o, n).length === 0))
    if (open.length > 0) say('may have a form that it did not have')
  }
  types(before, after, say)
  listed(before, after, say)
  for (const [name, words, larger] of bounds) {
    const [was, is] = [before[name], after[name]]
    if (typeof was !== 'number') continue
    if (typeof is !== 'number' || (larger ? is < was : is > was)) say(`${words} ${was}`)
  }
  for (const name of ['pattern', 'format', 'contentEncoding'])
    if (typeof before[name] === 'string' && before[name] !== after[name])
      say(`is written otherwise: ${shown(after[name] ?? 'in any way')}, was ${shown(before[name])}`)
  if (before['x-unit'] !== after['x-unit'] && (before['x-unit'] !== undefined || after['x-unit'] !== undefined))
    say(`is in ${shown(after['x-unit'] ?? 'no unit')} now, was in ${shown(before['x-unit'] ?? 'no unit')}`)
  out.push(...properties(before, after, path))
  if (isSchema(before.items)) out.push(...breaksOf(before.items, after.items ?? {}, path === '' ? '[]' : `${path}[]`))
  return out
}

function types(before: Schema, after: Schema, say: (what: string) => void): void {
  const [was, is] = [typesOf(before), typesOf(after)]
  if (!was || listedOf(after)) return
  if (!is) return say(`may be of any type, was ${was.join(' or ')}`)
  const other = is.filter((t) => !typeAmong(t, was))
  if (other.length > 0) say(`may be ${other.join(' or ')}, was ${was.join(' or ')}`)
}

function listed(before: Schema, after: Schema, say: (what: string) => void): void {
  const was = listedOf(before)
  const is = listedOf(after)
  const words = was && (was.length === 1 ? `was always ${few(was)}` : `was one of ${few(was)}`)
  if (was && !is) return say(`may be anything, ${words}`)
  if (was && is) {
    const texts = new Set(was.map((w) => JSON.stringify(w)))
    const fresh = is.filter((i) => !texts.has(JSON.stringify(i)))
    if (fresh.length > 0) say(`may be ${few(fresh)}, ${words}`)
  }
  const types = typesOf(before)
  if (!was && is && types) {
    const other = is.filter((i) => !typeAmong(i === null ? 'null' : Number.isInteger(i) ? 'integer' : typeof i, types))
    if (other.length > 0) say(`may be ${few(other)}, was ${types.join(' or ')}`)
  }
}

function properties(before: Schema, after: Schema, path: string): Break[] {
  const out: Break[] = []
  const at = (name: string) => (path === '' ? name : `${path}.${name}`)
  const was = isSchema(before.properties) ? before.properties : {}
  const is = isSchema(after.properties) ? after.properties : {}
  const required = new Set(Array.isArray(after.required) ? (after.required as string[]) : [])
  const needed = new Set(Array.isArray(before.required) ? (before.required as string[]) : [])
  for (const name of new Set([...Object.keys(was), ...needed])) {
    if (!Object.hasOwn(is, name)) out.push({ path: at(name), what: 'is sent no more' })
    else {
      if (needed.has(name) && !required.has(name)) out.push({ path: at(name), what: 'may be left out, was always there' })
      out.push(...breaksOf(Object.hasOwn(was, name) ? was[name] : {}, is[name], at(name)))
    }
  }
  if (before.additionalProperties === false) {
    for (const name of Object.keys(is))
      if (!Object.hasOwn(was, name)) out.push({ path: at(name), what: 'is new, which the old schema does not allow' })
    if (isSchema(before.properties) && after.additionalProperties !== false)
      out.push({ path, what: 'may have members that the old schema does not name' })
  }
  return out
}
