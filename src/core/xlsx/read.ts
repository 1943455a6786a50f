// Reads what stands in the cells of an XLSX workbook (ECMA-376 part 1, 18): values as text, without looks.
import { strFromU8, unzipSync } from 'fflate'
import { Parser } from 'saxen'

export interface Cell {
  text: string
  /** It is computed in the spreadsheet; the text is the result that was stored there. */
  formula: boolean
}

/** A row by its number, from 1; cells by their column, from 0. */
export interface Row {
  line: number
  cells: Map<number, Cell>
}

const NOTHING: Cell = { text: '', formula: false }
/** Days from the spreadsheet's first day to that of 1970 (18.17.4.1); in books of the other system. */
const EPOCH_DAYS = { 1900: 25_569, 1904: 24_107 } as const
const DAY_MS = 86_400_000

const bare = (name: string) => name.slice(name.indexOf(':') + 1)
/** Characters that XML cannot hold (22.9.2.19): `_x000D_`. */
const unescaped = (text: string) => text.replace(/_x([0-9A-Fa-f]{4})_/g, (_, hex: string) => String.fromCharCode(Number.parseInt(hex, 16)))

interface Hears {
  open?(name: string, attributes: () => Record<string, string>): void
  close?(name: string): void
  text?(value: string): void
}

function scan(xml: string, hears: Hears): void {
  let wrong: Error | null = null
  const parser = new Parser()
    .on('openTag', (name, attributes, decode) =>
      hears.open?.(bare(name), () => {
        const out: Record<string, string> = {}
        for (const [key, value] of Object.entries(attributes())) out[bare(key)] = decode(value)
        return out
      }),
    )
    .on('closeTag', (name) => hears.close?.(bare(name)))
    .on('error', (e) => {
      wrong = e
    })
  if (hears.text) {
    const { text } = hears
    parser.on('text', (value, decode) => text(decode(value))).on('cdata', (value) => text(value))
  }
  parser.parse(xml)
  if (wrong) throw wrong
}

/** Column of a cell from 0: `'A1'` 0, `'AB7'` 27. */
export function columnOf(reference: string): number {
  let n = 0
  for (const c of reference) {
    const letter = c.charCodeAt(0) - 64
    if (letter < 1 || letter > 26) break
    n = n * 26 + letter
  }
  return n - 1
}

/** Whether a format shows numbers as times (18.8.30): those of the standard, and own ones with a letter of one. */
function showsTime(id: number, code: string | undefined): boolean {
  if (code === undefined) return (id >= 14 && id <= 22) || (id >= 27 && id <= 36) || (id >= 45 && id <= 47) || (id >= 50 && id <= 58)
  return /[ymdhs]/i.test(code.replace(/"[^"]*"|\\.|_.|\*.|\[(?!h+\]|m+\]|s+\])[^\]]*\]/gi, ''))
}

/** Texts that cells share (18.4.8), with the runs of rich text joined; how they are spoken is left out. */
function sharedTexts(xml: string): string[] {
  const out: string[] = []
  let text = ''
  let inText = false
  let spoken = 0
  scan(xml, {
    open(name) {
      if (name === 'si') text = ''
      else if (name === 't') inText = spoken === 0
      else if (name === 'rPh') spoken++
    },
    close(name) {
      if (name === 'si') out.push(unescaped(text))
      else if (name === 't') inText = false
      else if (name === 'rPh') spoken--
    },
    text(value) {
      if (inText) text += value
    },
  })
  return out
}

/** Which styles of cells show times. */
function timeStyles(xml: string): boolean[] {
  const codes = new Map<number, string>()
  const out: boolean[] = []
  let inCells = false
  scan(xml, {
    open(name, attributes) {
      if (name === 'numFmt') codes.set(Number(attributes().numFmtId), attributes().formatCode ?? '')
      else if (name === 'cellXfs') inCells = true
      else if (name === 'xf' && inCells) {
        const id = Number(attributes().numFmtId ?? 0)
        out.push(showsTime(id, codes.get(id)))
      }
    },
    close(name) {
      if (name === 'cellXfs') inCells = false
    },
  })
  return out
}

/** An open workbook: its sheets by name, in their order. */
export class Workbook {
  readonly sheets: readonly string[]
  private readonly files: Record<string, Uint8Array>
  private readonly paths = new Map<string, string>()
  private readonly shared: string[]
  private readonly times: boolean[]
  private epochDays: number = EPOCH_DAYS[1900]

  /** Throws what keeps it from being read. */
  constructor(bytes: Uint8Array) {
    this.files = unzipSync(bytes, { filter: (f) => /^xl\/.*\.(xml|rels)$/.test(f.name) && !/^xl\/(drawings|theme|media|charts)\//.test(f.name) })
    const targets = new Map<string, string>()
    scan(this.demand('xl/_rels/workbook.xml.rels'), {
      open(name, attributes) {
        if (name !== 'Relationship') return
        const { Id = '', Target = '' } = attributes()
        targets.set(Id, Target.startsWith('/') ? Target.slice(1) : `xl/${Target}`)
      },
    })
    const names: string[] = []
    scan(this.demand('xl/workbook.xml'), {
      open: (name, attributes) => {
        if (name === 'workbookPr' && /^(1|true)$/.test(attributes().date1904 ?? '')) this.epochDays = EPOCH_DAYS[1904]
        if (name !== 'sheet') return
        const { name: called = '', id = '' } = attributes()
        const path = targets.get(id)
        // Pages with nothing but a chart are no sheets of cells.
        if (path === undefined || !path.includes('worksheets/')) return
        names.push(called)
        this.paths.set(called, path)
      },
    })
    this.sheets = names
    const texts = this.text('xl/sharedStrings.xml')
    this.shared = texts === null ? [] : sharedTexts(texts)
    const styles = this.text('xl/styles.xml')
    this.times = styles === null ? [] : timeStyles(styles)
  }

  private text(path: string): string | null {
    const bytes = this.files[path]
    return bytes ? strFromU8(bytes) : null
  }

  private demand(path: string): string {
    const text = this.text(path)
    if (text === null) throw new Error(`it has no ${path}`)
    return text
  }

  /** Rows with anything in them, in the order in which they stand; `most`: so many of the first. */
  rows(sheet: string, most = Number.POSITIVE_INFINITY): Row[] {
    const out: Row[] = []
    let row: Row | null = null
    let line = 0
    let column = -1
    let how = { kind: 'n', style: 0 }
    let cell = { value: '', formula: false, has: false }
    let within: 'v' | 't' | null = null
    let spoken = 0
    scan(this.demand(this.paths.get(sheet) ?? sheet), {
      open: (name, attributes) => {
        if (out.length >= most) return
        if (name === 'row') {
          line = Number(attributes().r ?? line + 1)
          row = { line, cells: new Map() }
          column = -1
        } else if (name === 'c') {
          const { r, t = 'n', s = '0' } = attributes()
          column = r === undefined ? column + 1 : columnOf(r)
          how = { kind: t, style: Number(s) }
          cell = { value: '', formula: false, has: false }
        } else if (name === 'f') cell.formula = true
        else if (name === 'v') {
          within = 'v'
          cell.has = true
        } else if (name === 't' && spoken === 0) within = 't'
        else if (name === 'rPh') spoken++
      },
      close: (name) => {
        if (name === 'v' || name === 't') within = null
        else if (name === 'rPh') spoken--
        else if (name === 'c' && row) {
          const found = this.cell(cell, how)
          if (found.text !== '' || found.formula) row.cells.set(column, found)
        } else if (name === 'row' && row) {
          if (row.cells.size > 0) out.push(row)
          row = null
        }
      },
      text: (value) => {
        if (within !== null) cell.value += value
      },
    })
    return out
  }

  /** What a cell says (18.3.1.4, 18.18.11): numbers as they are written, times in ISO 8601, errors by their name. */
  private cell({ value, formula, has }: { value: string; formula: boolean; has: boolean }, { kind, style }: { kind: string; style: number }): Cell {
    if (formula && !has && kind !== 'inlineStr') return { text: '#no result', formula }
    if (value === '') return formula ? { text: '', formula } : NOTHING
    if (kind === 's') return { text: this.shared[Number(value)] ?? '', formula }
    if (kind === 'b') return { text: value === '1' ? 'true' : 'false', formula }
    if (kind === 'n') return { text: this.times[style] ? this.time(Number(value)) : numberText(value), formula }
    return { text: kind === 'e' || kind === 'd' ? value : unescaped(value), formula }
  }

  private time(days: number): string {
    const ms = Math.round((days - this.epochDays) * DAY_MS)
    const date = new Date(ms)
    return Number.isNaN(date.getTime()) ? String(days) : date.toISOString()
  }
}

/** As it is read back: `1E-3` and `0.1000000001` by what they are; whole numbers beyond 2^53 digit for digit. */
function numberText(text: string): string {
  if (/^-?\d{1,15}$/.test(text)) return text
  const n = Number(text)
  return Number.isNaN(n) || /^-?\d+$/.test(text) ? text : String(n)
}
