// Workbooks as other programs write them: texts shared, prefixes, formulas with their results, runs of rich text.
import { strToU8, zipSync } from 'fflate'

const escaped = (text: string) => text.replace(/&/g, '&amp;').replace(/</g, '&lt;')
const letters = (column: number): string => (column < 26 ? '' : letters(Math.floor(column / 26) - 1)) + String.fromCharCode(65 + (column % 26))

/** A cell: a text, a number, nothing, or the inside of its element as it stands, with its attributes. */
export type Given = string | number | null | { attributes: string; inside: string }

/** What stands in `xl/sharedStrings.xml` for rich text, with how it is spoken beside it. */
export const rich = (...runs: string[]) =>
  `<si>${runs.map((r) => `<r><rPr><b/></rPr><t>${escaped(r)}</t></r>`).join('')}<rPh sb="0" eb="1"><t>spoken</t></rPh></si>`

export interface BookOptions {
  /** Further shared texts, as they stand there; the first has the number 0. */
  shared?: string[]
  /** Formats of cells: the number of each style, and own codes by number. */
  styles?: { numbers: number[]; codes?: Record<number, string> }
  date1904?: boolean
  /** Before every name of an element in the sheets. */
  prefix?: string
}

/** A workbook of these sheets, each a list of rows. */
export function bookOf(sheets: Record<string, Given[][]>, o: BookOptions = {}): Uint8Array {
  const shared = [...(o.shared ?? [])]
  const p = o.prefix ? `${o.prefix}:` : ''
  const cell = (given: Given, place: string) => {
    if (given === null) return ''
    if (typeof given === 'number') return `<${p}c r="${place}"><${p}v>${given}</${p}v></${p}c>`
    if (typeof given === 'object') return `<${p}c r="${place}" ${given.attributes}>${given.inside}</${p}c>`
    return `<${p}c r="${place}" t="s"><${p}v>${shared.push(`<si><t xml:space="preserve">${escaped(given)}</t></si>`) - 1}</${p}v></${p}c>`
  }
  const names = Object.keys(sheets)
  const files: Record<string, string> = {
    'xl/workbook.xml': `<workbook xmlns:r="r"><workbookPr${o.date1904 ? ' date1904="1"' : ''}/><sheets>${names.map((n, i) => `<sheet name="${escaped(n)}" sheetId="${i + 1}" r:id="rId${i + 1}"/>`).join('')}</sheets></workbook>`,
    'xl/_rels/workbook.xml.rels': `<Relationships>${names.map((_, i) => `<Relationship Id="rId${i + 1}" Type="worksheet" Target="worksheets/sheet${i + 1}.xml"/>`).join('')}</Relationships>`,
  }
  names.forEach((n, i) => {
    const rows = sheets[n]!.map((cells, r) => `<${p}row r="${r + 1}">${cells.map((c, k) => cell(c, `${letters(k)}${r + 1}`)).join('')}</${p}row>`)
    files[`xl/worksheets/sheet${i + 1}.xml`] =
      `<${p}worksheet${p ? ` xmlns:${o.prefix}="x"` : ''}><${p}sheetData>${rows.join('')}</${p}sheetData></${p}worksheet>`
  })
  files['xl/sharedStrings.xml'] = `<sst>${shared.join('')}</sst>`
  if (o.styles) {
    const codes = Object.entries(o.styles.codes ?? {}).map(([id, code]) => `<numFmt numFmtId="${id}" formatCode="${code.replace(/"/g, '&quot;')}"/>`)
    files['xl/styles.xml'] =
      `<styleSheet><numFmts>${codes.join('')}</numFmts><cellStyleXfs><xf numFmtId="14"/></cellStyleXfs><cellXfs>${o.styles.numbers.map((n) => `<xf numFmtId="${n}"/>`).join('')}</cellXfs></styleSheet>`
  }
  return zipSync(Object.fromEntries(Object.entries(files).map(([path, text]) => [path, strToU8(`<?xml version="1.0" encoding="UTF-8"?>${text}`)])))
}

/** A cell that is computed, with the result that was stored, or without one. */
export const formula = (text: string, result: string | number | null): Given => ({
  attributes: typeof result === 'string' ? 't="str"' : '',
  inside: `<f>${escaped(text)}</f>${result === null ? '' : `<v>${typeof result === 'string' ? escaped(result) : result}</v>`}`,
})
