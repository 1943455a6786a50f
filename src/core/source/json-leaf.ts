import type { DataType } from '~/contract/tag'

/** A place in a JSON document (RFC 6901): its parts, or null when the text is no pointer. `''` is the whole document. */
export function parsePointer(pointer: string): string[] | null {
  if (pointer === '') return []
  if (!pointer.startsWith('/') || /~(?![01])/.test(pointer)) return null
  return pointer
    .slice(1)
    .split('/')
    .map((p) => p.replace(/~1/g, '/').replace(/~0/g, '~'))
}

export const pointerPart = (name: string): string => `/${name.replace(/~/g, '~0').replace(/\//g, '~1')}`

/** What lies at a place; undefined when there is nothing. */
export function atPointer(document: unknown, parts: readonly string[]): unknown {
  let at = document
  for (const part of parts) {
    if (Array.isArray(at)) {
      if (!/^(0|[1-9]\d*)$/.test(part)) return undefined
      at = at[Number(part)]
    } else if (typeof at === 'object' && at !== null && Object.hasOwn(at, part)) at = (at as Record<string, unknown>)[part]
    else return undefined
  }
  return at
}

export interface Leaf {
  pointer: string
  /** Names from the top, with / between. */
  path: string
  value: unknown
  dataType: DataType
}

/** ISO 8601 with date, time and zone, or the date alone. */
const time = /^\d{4}-\d{2}-\d{2}([T ]\d{2}:\d{2}(:\d{2}(\.\d+)?)?(Z|[+-]\d{2}:?\d{2})?)?$/

export function dataTypeOf(value: unknown): DataType {
  if (typeof value === 'boolean') return 'boolean'
  // Whole numbers too: the next message may bring a fraction.
  if (typeof value === 'number') return 'number'
  // Beyond 2^53 only an integer keeps its digits.
  if (typeof value === 'bigint') return 'integer'
  if (value instanceof Date || (typeof value === 'string' && time.test(value))) return 'time'
  return 'text'
}

/** All single values of a document, with where they lie; at most `limit`, and no deeper than `depth`. */
export function leavesOf(document: unknown, limit = 500, depth = 24): Leaf[] {
  const out: Leaf[] = []
  const walk = (value: unknown, pointer: string, path: string, level: number) => {
    if (out.length >= limit) return
    if (typeof value === 'object' && value !== null && !(value instanceof Date)) {
      if (level >= depth) return
      for (const [key, inner] of Object.entries(value)) walk(inner, pointer + pointerPart(key), path ? `${path}/${key}` : key, level + 1)
    } else out.push({ pointer, path, value, dataType: dataTypeOf(value) })
  }
  walk(document, '', '', 0)
  return out
}

/** What a pointer that is one points to; undefined: there is nothing. */
export function pointed(value: unknown, pointer: string): unknown {
  const levels = parsePointer(pointer)
  return levels === null ? undefined : atPointer(value, levels)
}
