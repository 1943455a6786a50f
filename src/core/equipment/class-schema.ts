import { ClassDraft, type ClassInput, type EquipmentClass, type MemberInput } from '~/contract/equipment'
import { newId, shortId } from '~/contract/id'
import type { DataType } from '~/contract/tag'
import { unitOf } from '../value/unit'
import type { Classes } from './members'

type Json = Record<string, unknown>

const TYPES: Record<DataType, Json> = {
  number: { type: 'number' },
  integer: { type: 'integer' },
  boolean: { type: 'boolean' },
  text: { type: 'string' },
  time: { type: 'string', format: 'date-time' },
}

/**
 * A class as a JSON Schema (2020-12) of what equipment of it is in nested JSON. Parts and what it extends stand under `$defs`.
 * What the standard has no keyword for stands in annotations: `x-unit` with its UCUM and UN/CEFACT codes, `x-member`.
 */
export function classSchema(cls: Pick<EquipmentClass, 'id'>, classes: Classes): Json {
  const names = new Map<string, string>()
  const defs: Json = {}
  const define = (id: string): string => {
    const known = names.get(id)
    if (known) return known
    const one = classes.get(id)
    const base = (one?.name ?? 'Gone').replace(/[^A-Za-z0-9]+/g, '')
    let name = base || 'Class'
    for (let n = 2; [...names.values()].includes(name); n++) name = base + n
    names.set(id, name)
    defs[name] = one ? bodyOf(id) : {}
    return name
  }
  const ref = (id: string) => ({ $ref: id === cls.id ? '#' : `#/$defs/${define(id)}` })
  const bodyOf = (id: string): Json => {
    const one = classes.get(id)!
    const properties: Json = {}
    const required: string[] = []
    for (const m of one.members) {
      const unit = m.unit ? unitOf(m.unit) : undefined
      const value: Json = m.classId
        ? ref(m.classId)
        : {
            ...TYPES[m.dataType],
            ...(m.range && { minimum: m.range.low, maximum: m.range.high }),
            ...(m.allowed && { enum: m.allowed }),
            ...(m.unit && { 'x-unit': m.unit, ...(unit && { 'x-unit-ucum': unit.ucum }), ...(unit?.cefact && { 'x-unit-cefact': unit.cefact }) }),
          }
      properties[m.key] = {
        title: m.label,
        ...(m.description && { description: m.description }),
        ...(m.many ? { type: 'array', items: value } : value),
        'x-member': m.id,
      }
      if (m.required) required.push(m.key)
    }
    const description = (one as Partial<EquipmentClass>).description
    return {
      title: one.name,
      ...(description && { description }),
      type: 'object',
      ...(one.extendsId && { allOf: [ref(one.extendsId)] }),
      properties,
      ...(required.length > 0 && { required }),
    }
  }
  const body = bodyOf(cls.id)
  return { $schema: 'https://json-schema.org/draft/2020-12/schema', ...body, ...(Object.keys(defs).length > 0 && { $defs: defs }) }
}

/** Classes as read from a schema, those first that others need; what could not be taken over is told. */
export interface ReadSchema {
  classes: (ClassInput & { id: string })[]
  remarks: string[]
}

const TAKEN = new Set(
  '$schema $id $defs $comment $ref title description type properties required allOf items enum const minimum maximum format default examples additionalProperties unevaluatedProperties x-unit x-unit-ucum x-unit-cefact x-member'.split(
    ' ',
  ),
)

const keyFrom = (name: string) => {
  const key = name
    .replace(/[^A-Za-z0-9]+(.)?/g, (_, c: string | undefined) => (c ? c.toUpperCase() : ''))
    .replace(/^[A-Z]+(?![a-z])|^[A-Z]/, (c) => c.toLowerCase())
    .replace(/^\d+/, '')
  return key.slice(0, 40) || 'member'
}

/** Reads a JSON Schema as classes. Throws with a message when it is none that describes an object. */
export function readClassSchema(text: string): ReadSchema {
  let root: unknown
  try {
    root = JSON.parse(text)
  } catch (e) {
    throw new Error(`This is no JSON: ${(e as Error).message}`)
  }
  if (!isObject(root)) throw new Error('A JSON Schema is an object')
  const top = root
  const remarks: string[] = []
  const classes: ReadSchema['classes'] = []
  const byRef = new Map<string, string>()
  const underway = new Set<string>()

  const resolve = (ref: string): { schema: Json; name: string } => {
    if (ref === '#') return { schema: top, name: String(top.title ?? 'Class') }
    const m = /^#\/(?:\$defs|definitions)\/(.+)$/.exec(ref)
    const defs = (top.$defs ?? top.definitions) as Json | undefined
    const name = m ? decodeURIComponent(m[1]!).replace(/~1/g, '/').replace(/~0/g, '~') : ''
    const found = m && isObject(defs) ? defs[name] : undefined
    if (!isObject(found)) throw new Error(`${ref} leads nowhere: only references within the schema can be followed`)
    return { schema: found, name }
  }
  const ofRef = (ref: string): string => {
    const known = byRef.get(ref)
    if (known) {
      if (underway.has(ref)) throw new Error(`${ref} holds itself: a class within itself never ends`)
      return known
    }
    const { schema, name } = resolve(ref)
    return make(schema, name, ref)
  }
  const make = (schema: Json, name: string, ref: string | null): string => {
    const id = newId()
    if (ref) {
      byRef.set(ref, id)
      underway.add(ref)
    }
    for (const k of Object.keys(schema)) if (!TAKEN.has(k)) remarks.push(`${schema.title ?? name}: ${k} has no counterpart and is left out`)
    let extendsId: string | null = null
    for (const part of Array.isArray(schema.allOf) ? schema.allOf : []) {
      if (isObject(part) && typeof part.$ref === 'string' && extendsId === null) extendsId = ofRef(part.$ref)
      else remarks.push(`${schema.title ?? name}: only one reference in allOf can be taken as what it extends`)
    }
    const required = new Set(Array.isArray(schema.required) ? schema.required : [])
    const members = Object.entries(isObject(schema.properties) ? schema.properties : {}).map(([key, p]) => member(key, p, required.has(key)))
    classes.push({ id, name: String(schema.title ?? name), description: String(schema.description ?? '').slice(0, 500), extendsId, members })
    if (ref) underway.delete(ref)
    return id
  }
  const member = (name: string, p: unknown, required: boolean): MemberInput => {
    const key = /^[a-z][A-Za-z0-9]{0,39}$/.test(name) ? name : keyFrom(name)
    if (key !== name) remarks.push(`${name} is called ${key}: names in payloads are letters and digits`)
    const schema = isObject(p) ? p : {}
    const many = schema.type === 'array'
    const inner = many ? (isObject(schema.items) ? schema.items : {}) : schema
    const nested =
      typeof inner.$ref === 'string'
        ? ofRef(inner.$ref)
        : isObject(inner.properties)
          ? make(inner, String(inner.title ?? schema.title ?? name), null)
          : null
    if (!isObject(p) || (!nested && !('type' in inner) && !('enum' in inner))) remarks.push(`${name}: no type is given, so it is taken as text`)
    const given = schema['x-member']
    const base = {
      id: typeof given === 'string' && /^[a-z][a-z0-9]{0,15}$/.test(given) ? given : shortId(),
      key,
      label: String(schema.title ?? name).slice(0, 120),
      description: String(schema.description ?? '').slice(0, 500),
      required,
      many,
    }
    if (nested) return { ...base, classId: nested }
    const types = (Array.isArray(inner.type) ? inner.type : [inner.type]).filter((t) => t !== 'null')
    if (types.length > 1) remarks.push(`${name}: of several types ${String(types[0])} is taken`)
    const values = Array.isArray(inner.enum) ? inner.enum : []
    const type = types[0] ?? (values.every((v) => typeof v === 'number') && values.length > 0 ? 'number' : 'string')
    const dataType: DataType = type === 'number' || type === 'integer' || type === 'boolean' ? type : inner.format === 'date-time' ? 'time' : 'text'
    if (type !== 'string' && dataType === 'text' && 'type' in inner) remarks.push(`${name}: ${String(type)} is taken as text`)
    const low = inner.minimum
    const high = inner.maximum
    const numeric = dataType === 'number' || dataType === 'integer'
    const allowed = values.filter((v) => typeof v === (numeric ? 'number' : 'string')) as (number | string)[]
    return {
      ...base,
      dataType,
      unit: typeof inner['x-unit'] === 'string' ? inner['x-unit'].slice(0, 24) : '',
      range: numeric && typeof low === 'number' && typeof high === 'number' && low < high ? { low, high } : null,
      allowed: allowed.length > 0 ? allowed.slice(0, 200) : null,
    }
  }
  if (!isObject(top.properties) && !Array.isArray(top.allOf)) throw new Error('It describes no object with properties')
  make(top, 'Class', '#')
  for (const c of classes) ClassDraft.parse(c)
  return { classes, remarks }
}

const isObject = (x: unknown): x is Json => typeof x === 'object' && x !== null && !Array.isArray(x)
