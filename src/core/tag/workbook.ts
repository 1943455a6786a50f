import { Workbook } from '../xlsx/read'
import { writeSheet } from '../xlsx/write'
import { at, tagColumns } from './columns'
import { columnsOf, type GivenRow, PlanError } from './plan'
import { bounded, type Sheet } from './sheet'

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

/**
 * One sheet of an XLSX workbook (ECMA-376) and the names of all: the one asked for, else the first whose first row names
 * columns of tags. Formulas count by the result that the spreadsheet stored.
 */
export async function readWorkbook(bytes: Uint8Array, wanted?: string): Promise<{ sheet: Sheet; sheets: string[]; name: string }> {
  const size = unpackedSize(bytes)
  if (size === null) throw new PlanError('This is no XLSX workbook, or it is damaged', 'Save it anew as XLSX, or as CSV')
  if (size > UNPACKED_MAX) throw new PlanError(`Unpacked it would be ${Math.round(size / 2 ** 20)} MB`, 'Save the sheet as CSV, or split it')
  const reading = <T>(work: () => T): T => {
    try {
      return work()
    } catch (e) {
      throw new PlanError(`The workbook cannot be read: ${e instanceof Error ? e.message : String(e)}`, 'Save it anew as XLSX, or as CSV')
    }
  }
  const book = reading(() => new Workbook(bytes))
  const sheets = [...book.sheets]
  const headingOf = (name: string) => {
    const [first] = reading(() => book.rows(name, 1))
    return first?.line === 1 ? Array.from({ length: Math.max(...first.cells.keys()) + 1 }, (_, i) => first.cells.get(i)?.text ?? '') : []
  }
  const fits = (name: string) => columnsOf(headingOf(name)).some((p) => p === at('name') || p === at('id'))
  const picked = wanted === undefined ? sheets.find(fits) : sheets.find((name) => name === wanted)
  if (picked === undefined)
    throw new PlanError(
      wanted === undefined ? `None of its ${sheets.length} sheets has a first row with a column called name or id` : `There is no sheet ${wanted}`,
      'The first row holds the names of the columns; export some tags to see them',
    )
  const heading = headingOf(picked)
  const rows: GivenRow[] = []
  let formulas = 0
  for (const { line, cells: given } of reading(() => book.rows(picked))) {
    if (line === 1) continue
    const cells = heading.map((_, i) => {
      const cell = given.get(i)
      if (cell?.formula) formulas++
      return bounded(cell?.text ?? '')
    })
    if (cells.some((c) => c !== '')) rows.push({ line, cells })
  }
  const remarks: string[] = []
  if (sheets.length > 1) remarks.push(`Sheet ${picked} of ${sheets.length}`)
  if (formulas > 0) remarks.push(`${formulas} ${formulas === 1 ? 'formula counts' : 'formulas count'} by what the spreadsheet last computed`)
  return { sheet: { heading, rows, separator: ',', decimal: '.', encoding: 'XLSX', remarks }, sheets, name: picked }
}

/** Rows of texts as an XLSX workbook; numbers are numbers, everything else is text that no spreadsheet computes. */
export async function writeWorkbook(flats: readonly (readonly string[])[], columns: readonly string[]): Promise<Uint8Array> {
  const places = columns.map(at)
  return writeSheet(
    'tags',
    columns.map((k) => ({ heading: k, width: k === 'name' ? 36 : k === 'address' ? 30 : Math.max(10, k.length + 2) })),
    flats.map((flat) =>
      places.map((p) => {
        const text = flat[p]!
        return tagColumns[p]!.numeric && text !== '' && String(Number(text)) === text ? Number(text) : text
      }),
    ),
  )
}
