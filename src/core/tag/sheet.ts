import Papa from 'papaparse'
import { at, tagColumns } from './columns'
import { columnsOf, type GivenRow, PlanError } from './plan'

/** How bytes or text were understood. */
export interface Understood {
  encoding: string
  separator: ',' | ';' | '\t' | '|'
  decimal: '.' | ','
  /** What else there is to say: formulas taken by their results, rows cut off. */
  remarks: string[]
}
export interface Sheet extends Understood {
  heading: string[]
  rows: GivenRow[]
}

/** No cell of a tag may be longer; longer ones are cut before they are looked at, and refused with their length. */
const CELL_MAX = 5000

/** Bytes as text: by the byte order mark, else UTF-8 when all of it is valid, else Windows-1252. */
export function decodeText(bytes: Uint8Array, forced?: string): { text: string; encoding: string } {
  const [a, b, c] = bytes
  const encoding =
    forced ??
    (a === 0xff && b === 0xfe ? 'utf-16le' : a === 0xfe && b === 0xff ? 'utf-16be' : a === 0xef && b === 0xbb && c === 0xbf ? 'utf-8' : null)
  if (encoding) return { text: new TextDecoder(encoding).decode(bytes), encoding }
  try {
    return { text: new TextDecoder('utf-8', { fatal: true }).decode(bytes), encoding: 'utf-8' }
  } catch {
    return { text: new TextDecoder('windows-1252').decode(bytes), encoding: 'windows-1252' }
  }
}

const separators = [',', ';', '\t', '|'] as const

/** The separator with which the first line names the most columns. */
function separatorOf(text: string): Understood['separator'] {
  const end = text.search(/[\r\n]/)
  const first = text.slice(0, Math.min(end < 0 ? text.length : end, 20_000))
  let best: Understood['separator'] = ','
  let most = -1
  for (const s of separators) {
    const heading = Papa.parse<string[]>(first, { delimiter: s }).data[0] ?? []
    const known = columnsOf(heading).filter((p) => p >= 0).length
    if (known > most) {
      most = known
      best = s
    }
  }
  return best
}

/** A comma when numbers are written with one and none with a point. */
export function decimalOf(heading: readonly string[], rows: readonly GivenRow[]): Understood['decimal'] {
  const numeric = columnsOf(heading).flatMap((p, i) => (p >= 0 && tagColumns[p]!.numeric ? [i] : []))
  let commas = 0
  for (const { cells } of rows)
    for (const i of numeric) {
      const text = cells[i]
      if (!text) continue
      if (/^\s*-?\d+\.\d/.test(text)) return '.'
      if (/^\s*-?\d+,\d+( *%)?\s*$/.test(text)) commas++
    }
  return commas > 0 ? ',' : '.'
}

/** A cell that is too long for any column, cut; what is left says how long it was. */
export const bounded = (text: string) => (text.length > CELL_MAX ? `${text.slice(0, CELL_MAX)}… (${text.length} characters)` : text)

/** Cells as they were before `guarded`, none longer than any column takes. */
const opened = (cells: string[]): string[] => {
  for (let i = 0; i < cells.length; i++) {
    let c = cells[i]!
    if (c.charCodeAt(0) === 39 /* ' */ && /^'+[=+\-@\t\r]/.test(c)) c = c.slice(1)
    cells[i] = bounded(c)
  }
  return cells
}

/** Text parted by commas, semicolons, tabs or bars (RFC 4180 with other separators allowed), with its heading. */
export function readText(text: string, how: Partial<Understood> = {}): Sheet {
  const separator = how.separator ?? separatorOf(text)
  const body = text.charCodeAt(0) === 0xfeff ? text.slice(1) : text
  if (body.trim() === '') throw new PlanError('There is nothing in it', 'The first row holds the names of the columns')
  if (body.includes('\0')) throw new PlanError('This is no text: it holds zero bytes', 'Save it as CSV or XLSX')
  const parsed = Papa.parse<string[]>(body, { delimiter: separator, skipEmptyLines: false })
  const open = parsed.errors.find((e) => e.type === 'Quotes')
  if (open)
    throw new PlanError(
      `Quotes do not match${open.row === undefined ? '' : ` near row ${open.row + 1}`}`,
      'A quote inside a text in quotes is written twice; the text must end with one quote and a separator',
    )
  const [heading, ...rest] = parsed.data
  const rows: GivenRow[] = []
  rest.forEach((cells, i) => {
    if (cells.some((c) => c !== '')) rows.push({ line: i + 2, cells: opened(cells) })
  })
  return {
    heading: opened(heading ?? []),
    rows,
    separator,
    decimal: how.decimal ?? decimalOf(heading ?? [], rows),
    encoding: how.encoding ?? 'text',
    remarks: [],
  }
}

/** As `readText`, from bytes. */
export function readBytes(bytes: Uint8Array, how: Partial<Understood> = {}): Sheet {
  const { text, encoding } = decodeText(bytes, how.encoding)
  return readText(text, { ...how, encoding })
}

/**
 * A cell that a spreadsheet would compute, marked so that it does not: with an apostrophe before it. Reading takes one off
 * again, so every text comes back as it was. Numbers stay numbers.
 */
export const guarded = (text: string) => (/^'*[=+\-@\t\r]/.test(text) && !/^-?\d+(\.\d+)?(e[+-]?\d+)?$/i.test(text) ? `'${text}` : text)

export interface WriteHow {
  separator: ',' | ';' | '\t'
  decimal: '.' | ','
}

/** Rows of texts (as `flatten` gives them) as CSV or, for the clipboard, TSV; `columns` are keys, in their order. */
export function writeText(flats: readonly (readonly string[])[], columns: readonly string[], how: WriteHow): string {
  const places = columns.map(at)
  const numeric = places.map((p) => tagColumns[p]!.numeric)
  const rows = flats.map((flat) =>
    places.map((p, i) => {
      const text = flat[p]!
      return guarded(how.decimal === ',' && numeric[i] ? text.replace('.', ',') : text)
    }),
  )
  return unparse([columns, ...rows], how.separator)
}

/** Any rows of texts, the first of them the heading; what a spreadsheet would compute is marked. */
export const writeTable = (rows: readonly (readonly string[])[], separator: WriteHow['separator']): string =>
  unparse(
    rows.map((row) => row.map(guarded)),
    separator,
  )

const unparse = (rows: readonly (readonly string[])[], separator: string) =>
  `${Papa.unparse(rows as string[][], { delimiter: separator, newline: '\r\n' })}\r\n`
