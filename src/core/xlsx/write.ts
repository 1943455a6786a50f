// Writes one sheet as an XLSX workbook (ECMA-376 part 1, 18) that spreadsheets open without asking.
import { strToU8, zipSync } from 'fflate'

export interface Column {
  heading: string
  /** In characters. */
  width: number
}

const XML = '<?xml version="1.0" encoding="UTF-8" standalone="yes"?>\n'
const MAIN = 'http://schemas.openxmlformats.org/spreadsheetml/2006/main'
const RELATIONS = 'http://schemas.openxmlformats.org/officeDocument/2006/relationships'
const PACKAGE = 'http://schemas.openxmlformats.org/package/2006'
const TYPES = 'application/vnd.openxmlformats-officedocument.spreadsheetml'

// biome-ignore lint/suspicious/noControlCharactersInRegex: these are what XML cannot hold (XML 1.0 2.2)
const UNSPEAKABLE = /[\x00-\x08\x0b\x0c\x0e-\x1f\ufffe\uffff]|[\ud800-\udbff](?![\udc00-\udfff])|(?<![\ud800-\udbff])[\udc00-\udfff]/g
const ENTITIES: Record<string, string> = { '&': '&amp;', '<': '&lt;', '>': '&gt;', '"': '&quot;' }

/** As it stands between tags; what XML cannot hold, and what would be read as such, in the way of 22.9.2.19. */
function escaped(text: string): string {
  return text
    .replace(/_(?=x[0-9A-Fa-f]{4}_)/g, '_x005F_')
    .replace(UNSPEAKABLE, (c) => `_x${c.charCodeAt(0).toString(16).toUpperCase().padStart(4, '0')}_`)
    .replace(/\r/g, '_x000D_')
    .replace(/[&<>"]/g, (c) => ENTITIES[c]!)
}

/** Name of a column from 0: 0 `'A'`, 27 `'AB'`. */
export function columnName(column: number): string {
  let name = ''
  for (let n = column + 1; n > 0; n = Math.floor((n - 1) / 26)) name = String.fromCharCode(65 + ((n - 1) % 26)) + name
  return name
}

function cellOf(value: string | number | null, place: string, style: number): string {
  if (value === null || value === '') return ''
  const s = style > 0 ? ` s="${style}"` : ''
  if (typeof value === 'number') return `<c r="${place}"${s}><v>${value}</v></c>`
  return `<c r="${place}" t="inlineStr"${s}><is><t xml:space="preserve">${escaped(value)}</t></is></c>`
}

function sheetOf(columns: readonly Column[], rows: readonly (readonly (string | number | null)[])[]): string {
  const names = columns.map((_, i) => columnName(i))
  const row = (cells: readonly (string | number | null)[], line: number, style: number) =>
    `<row r="${line}">${cells.map((c, i) => cellOf(c, `${names[i]}${line}`, style)).join('')}</row>`
  const widths = columns.map((c, i) => `<col min="${i + 1}" max="${i + 1}" width="${c.width}" customWidth="1"/>`).join('')
  const view =
    '<sheetView workbookViewId="0"><pane xSplit="1" ySplit="1" topLeftCell="B2" activePane="bottomRight" state="frozen"/><selection pane="bottomRight"/></sheetView>'
  const heading = row(
    columns.map((c) => c.heading),
    1,
    1,
  )
  const body = rows.map((cells, i) => row(cells, i + 2, 0)).join('')
  return `${XML}<worksheet xmlns="${MAIN}"><sheetViews>${view}</sheetViews><cols>${widths}</cols><sheetData>${heading}${body}</sheetData></worksheet>`
}

const parts: Record<string, string> = {
  '[Content_Types].xml': `<Types xmlns="${PACKAGE}/content-types"><Default Extension="rels" ContentType="application/vnd.openxmlformats-package.relationships+xml"/><Default Extension="xml" ContentType="application/xml"/><Override PartName="/xl/workbook.xml" ContentType="${TYPES}.sheet.main+xml"/><Override PartName="/xl/worksheets/sheet1.xml" ContentType="${TYPES}.worksheet+xml"/><Override PartName="/xl/styles.xml" ContentType="${TYPES}.styles+xml"/></Types>`,
  '_rels/.rels': `<Relationships xmlns="${PACKAGE}/relationships"><Relationship Id="rId1" Type="${RELATIONS}/officeDocument" Target="xl/workbook.xml"/></Relationships>`,
  'xl/_rels/workbook.xml.rels': `<Relationships xmlns="${PACKAGE}/relationships"><Relationship Id="rId1" Type="${RELATIONS}/worksheet" Target="worksheets/sheet1.xml"/><Relationship Id="rId2" Type="${RELATIONS}/styles" Target="styles.xml"/></Relationships>`,
  // Two styles of cells: plain, and bold for the heading.
  'xl/styles.xml': `<styleSheet xmlns="${MAIN}"><fonts count="2"><font><sz val="11"/><name val="Calibri"/></font><font><b/><sz val="11"/><name val="Calibri"/></font></fonts><fills count="2"><fill><patternFill patternType="none"/></fill><fill><patternFill patternType="gray125"/></fill></fills><borders count="1"><border/></borders><cellStyleXfs count="1"><xf/></cellStyleXfs><cellXfs count="2"><xf/><xf fontId="1" applyFont="1"/></cellXfs></styleSheet>`,
}

/** One sheet with a bold heading that stays in sight; numbers are numbers, everything else is text that no spreadsheet computes. */
export function writeSheet(name: string, columns: readonly Column[], rows: readonly (readonly (string | number | null)[])[]): Uint8Array {
  const workbook = `<workbook xmlns="${MAIN}" xmlns:r="${RELATIONS}"><sheets><sheet name="${escaped(name)}" sheetId="1" r:id="rId1"/></sheets></workbook>`
  const all = { ...parts, 'xl/workbook.xml': workbook }
  const files: Record<string, Uint8Array> = {}
  for (const [path, text] of Object.entries(all)) files[path] = strToU8(XML + text)
  files['xl/worksheets/sheet1.xml'] = strToU8(sheetOf(columns, rows))
  return zipSync(files, { level: 6 })
}
