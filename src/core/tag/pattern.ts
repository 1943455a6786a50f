import type { Tag, TagPatternDraft } from '~/contract/tag'
import { formatModbusAddress, parseModbusAddress } from '../source/modbus-address'
import { at, type Surroundings, tagColumns } from './columns'
import { emptyFlat, flatten } from './flat'
import type { GivenRow } from './plan'

/** A text of the folder that stands for something: `Zone 3` for the parameter `zone`. */
export interface Stand {
  text: string
  parameter: string
}

/** Parameters that every pattern has: where its tags go, and which source they are read from. */
export const FOLDER = 'folder'
export const SOURCE = 'source'
export const UNIT = 'unit'
export const BASE = 'base address'

const left = new Set(['id', 'source'])
const braced = (p: string) => `{${p}}`

/** A text in which what stands for a parameter is replaced by it, longest first. */
function standIn(text: string, stands: readonly Stand[]): string {
  let out = text
  for (const { text: found, parameter } of [...stands].sort((a, b) => b.text.length - a.text.length))
    if (found !== '') out = out.replaceAll(found, braced(parameter))
  return out
}

/**
 * A pattern of all tags under a folder. Its place and source become parameters; Modbus addresses give up their unit id and
 * count from the lowest register (`{unit} holding@{base address+2} float32`). Braces in texts would be taken for parameters.
 */
export function makePattern(
  name: string,
  folder: string,
  tags: readonly Tag[],
  around: Surroundings,
  stands: readonly Stand[],
): { draft: TagPatternDraft; first: Record<string, string> } | { problem: string } {
  const inside = tags.filter((t) => t.name.startsWith(`${folder}/`))
  if (inside.length === 0) return { problem: `No tag lies under ${folder}` }
  const braces = inside.find((t) => flatten(t, around).some((text) => /[{}]/.test(text)))
  if (braces) return { problem: `${braces.name} holds braces, which would be taken for parameters` }
  const sources = new Set(inside.map((t) => t.sourceId))
  if (sources.size > 1) return { problem: `Its tags are from ${sources.size} sources: a pattern is of one` }
  const parsed = inside.map((t) => (around.sourceKind.get(t.sourceId) === 'modbus' ? parseModbusAddress(t.address) : null))
  const places = parsed.flatMap((p) => (p && !('problem' in p) ? [p] : []))
  const modbus = places.length === inside.length && new Set(places.map((p) => p.unit)).size === 1
  const base = modbus ? Math.min(...places.map((p) => p.offset)) : 0
  const rows = inside.map((t, i) => {
    const flat = flatten(t, around)
    const row: Record<string, string> = {}
    tagColumns.forEach((c, k) => {
      if (c.property === null || left.has(c.key) || flat[k] === emptyFlat[k]) return
      row[c.key] = c.numeric ? flat[k]! : standIn(flat[k]!, stands)
    })
    row.name = `${braced(FOLDER)}/${standIn(t.name.slice(folder.length + 1), stands)}`
    const p = parsed[i]
    if (modbus && p && !('problem' in p)) {
      const own = formatModbusAddress(p)
      const shift = p.offset - base
      // The place comes second: `3 holding@12 float32`.
      row.address = own.replace(
        /^\d+ (coil|discrete|input|holding)@\d+/,
        (_m, area: string) => `{${UNIT}} ${area}@{${BASE}${shift > 0 ? `+${shift}` : ''}}`,
      )
    }
    return row
  })
  const first: Record<string, string> = { [FOLDER]: folder, [SOURCE]: around.sourceName.get(inside[0]!.sourceId) ?? '' }
  if (modbus) Object.assign(first, { [UNIT]: String(places[0]!.unit), [BASE]: String(base) })
  for (const s of stands) if (s.text !== '') first[s.parameter] = s.text
  return { draft: { name, parameters: Object.keys(first), rows }, first }
}

/** A text with its parameters filled in; `{base address+2}` counts on from a whole number. */
export function fillParameters(text: string, values: Readonly<Record<string, string>>): { text: string } | { problem: string } {
  let problem: string | null = null
  const filled = text.replace(/\{([^{}+]+?)(?:\+(\d+))?\}/g, (whole, name: string, plus: string | undefined) => {
    const value = values[name]
    if (value === undefined) problem ??= `Nothing is given for ${whole}`
    else if (plus !== undefined && !/^\d+$/.test(value)) problem ??= `${whole} needs a whole number, not ${value}`
    return value === undefined ? whole : plus === undefined ? value : String(Number(value) + Number(plus))
  })
  return problem === null ? { text: filled } : { problem }
}

/** `counted('Meter 08', 2)` is `Meter 10`: the last number of a text goes on by a step; without a number it stays. */
export function counted(text: string, by: number): string {
  const m = /^(.*?)(\d+)(\D*)$/s.exec(text)
  return m ? `${m[1]}${String(Number(m[2]) + by).padStart(m[2]!.length, '0')}${m[3]}` : text
}

/** How one parameter goes on from copy to copy. */
export interface Course {
  first: string
  step: number
}

/** The rows of a pattern laid down so many times, for a plan to look at. */
export function layDown(
  pattern: Pick<TagPatternDraft, 'parameters' | 'rows'>,
  courses: Readonly<Record<string, Course>>,
  times: number,
): { heading: string[]; rows: GivenRow[] } | { problem: string } {
  const keys = [...new Set(['name', 'source', ...pattern.rows.flatMap((r) => Object.keys(r))])]
  const rows: GivenRow[] = []
  for (let n = 0; n < times; n++) {
    const values: Record<string, string> = {}
    for (const p of pattern.parameters) {
      const c = courses[p]
      if (!c || c.first.trim() === '') return { problem: `Nothing is given for {${p}}` }
      values[p] = c.step === 0 ? c.first.trim() : counted(c.first.trim(), n * c.step)
    }
    for (const row of pattern.rows) {
      const cells: string[] = []
      for (const key of keys) {
        const filled = key === 'source' ? { text: values[SOURCE] ?? '' } : fillParameters(row[key] ?? emptyFlat[at(key)]!, values)
        if ('problem' in filled) return filled
        cells.push(filled.text)
      }
      rows.push({ line: rows.length + 1, cells })
    }
  }
  return { heading: keys, rows }
}
