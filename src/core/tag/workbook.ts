import { at, tagColumns } from './columns'
import { columnsOf, type GivenRow, PlanError } from './plan'
import { bounded, type Sheet } from './sheet'

/** The library is large: loaded when a workbook is read or written. */
const library = async () => (await import('exceljs')).default

const UNPACKED_MAX = 400 << 20

/** The sum of sizes that a ZIP archive (APPNOTE 4.3.12) says its files unpack to; null when it is none. */
export function unpackedSize(bytes: Uint8Array): number | null {
  const view = new DataView(bytes.buffer, bytes.byteOffset, bytes.byteLength)
  for (let end = bytes.length - 22; end >= Math.max(0, bytes.length - 65_557); end--) {
    if (view.getUint32(end, true) !== 0x06054b50) continue
    let sum = 0
    let p = view.getUint32(end + 16, true)
    for (let n = view.getUint16(end + 10, true); n > 0; n--) {
      if (p + 46 > bytes.length || view.getUint32(p, true) !== 0x02014b50) return null
      sum += view.getUint32(p + 24, true)
      p += 46 + view.getUint16(p + 28, true) + view.getUint16(p + 30, true) + view.getUint16(p + 32, true)
    }
    return sum
  }
  return null
}

interface Found {
  text: string
  formula: boolean
}

/** A cell's value as text: results of formulas, texts of links and of rich text, times as ISO 8601. */
function textOf(value: unknown): Found {
  if (value === null || value === undefined) return { text: '', formula: false }
  if (value instanceof Date) return { text: value.toISOString(), formula: false }
  if (typeof value !== 'object') return { text: String(value), formula: false }
  const v = value as { formula?: string; sharedFormula?: string; result?: unknown; richText?: { text: string }[]; text?: unknown; error?: string }
  if (v.formula !== undefined || v.sharedFormula !== undefined)
    return { text: v.result === undefined || v.result === null ? '#no result' : textOf(v.result).text, formula: true }
  if (v.richText) return { text: v.richText.map((r) => r.text).join(''), formula: false }
  if (v.error !== undefined) return { text: v.error, formula: false }
  return { text: v.text === undefined ? '' : textOf(v.text).text, formula: false }
}

/**
 * One sheet of an XLSX workbook (ECMA-376) and the names of all: the one asked for, else the first whose first row names
 * columns of tags. Formulas count by the result that the spreadsheet stored.
 */
export async function readWorkbook(bytes: Uint8Array, wanted?: string): Promise<{ sheet: Sheet; sheets: string[]; name: string }> {
  const size = unpackedSize(bytes)
  if (size === null) throw new PlanError('This is no XLSX workbook, or it is damaged', 'Save it anew as XLSX, or as CSV')
  if (size > UNPACKED_MAX) throw new PlanError(`Unpacked it would be ${Math.round(size / 2 ** 20)} MB`, 'Save the sheet as CSV, or split it')
  const book = new (await library()).Workbook()
  try {
    await book.xlsx.load(bytes.slice().buffer as ArrayBuffer)
  } catch (e) {
    throw new PlanError(`The workbook cannot be read: ${e instanceof Error ? e.message : String(e)}`, 'Save it anew as XLSX, or as CSV')
  }
  const sheets = book.worksheets.map((w) => w.name)
  const headingOf = (w: (typeof book.worksheets)[number]) => ((w.getRow(1).values as unknown[]) ?? []).slice(1).map((v) => textOf(v).text)
  const fits = (w: (typeof book.worksheets)[number]) => columnsOf(headingOf(w)).some((p) => p === at('name') || p === at('id'))
  const picked = wanted === undefined ? book.worksheets.find(fits) : book.worksheets.find((w) => w.name === wanted)
  if (!picked)
    throw new PlanError(
      wanted === undefined ? `None of its ${sheets.length} sheets has a first row with a column called name or id` : `There is no sheet ${wanted}`,
      'The first row holds the names of the columns; export some tags to see them',
    )
  const heading = headingOf(picked)
  const rows: GivenRow[] = []
  let formulas = 0
  picked.eachRow({ includeEmpty: false }, (row, line) => {
    if (line === 1) return
    const cells: string[] = []
    for (let i = 1; i <= heading.length; i++) {
      const { text, formula } = textOf(row.getCell(i).value)
      if (formula) formulas++
      cells.push(bounded(text))
    }
    if (cells.some((c) => c !== '')) rows.push({ line, cells })
  })
  const remarks: string[] = []
  if (sheets.length > 1) remarks.push(`Sheet ${picked.name} of ${sheets.length}`)
  if (formulas > 0) remarks.push(`${formulas} ${formulas === 1 ? 'formula counts' : 'formulas count'} by what the spreadsheet last computed`)
  return { sheet: { heading, rows, separator: ',', decimal: '.', encoding: 'XLSX', remarks }, sheets, name: picked.name }
}

/** Rows of texts as an XLSX workbook; numbers are numbers, everything else is text that no spreadsheet computes. */
export async function writeWorkbook(flats: readonly (readonly string[])[], columns: readonly string[]): Promise<Uint8Array> {
  const book = new (await library()).Workbook()
  const sheet = book.addWorksheet('tags', { views: [{ state: 'frozen', xSplit: 1, ySplit: 1 }] })
  const places = columns.map(at)
  sheet.columns = columns.map((k) => ({ header: k, width: k === 'name' ? 36 : k === 'address' ? 30 : Math.max(10, k.length + 2) }))
  for (const flat of flats)
    sheet.addRow(
      places.map((p) => {
        const text = flat[p]!
        return tagColumns[p]!.numeric && text !== '' && String(Number(text)) === text ? Number(text) : text === '' ? null : text
      }),
    )
  sheet.getRow(1).font = { bold: true }
  return new Uint8Array(await book.xlsx.writeBuffer())
}
