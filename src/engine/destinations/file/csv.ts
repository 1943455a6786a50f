import Papa from 'papaparse'
import { own } from '~/core/value/own'
import type { Row } from '~/core/value/plain-rows'
import { asText, columnsOf } from './columns'

/** Rows as RFC 4180 has them: a header, then a record each; nothing and an empty text are both nothing between commas. */
export function writeCsv(rows: readonly Row[]): string {
  const fields = columnsOf(rows)
  // A record of one column that is empty would be no line at all.
  const quotes = fields.length === 1
  return `${Papa.unparse({ fields, data: rows.map((row) => fields.map((f) => asText(own(row, f)))) }, { newline: '\r\n', quotes })}\r\n`
}

export function readCsv(text: string): Row[] {
  const [fields = [], ...records] = Papa.parse<string[]>(text, { delimiter: ',', newline: '\r\n', skipEmptyLines: true }).data
  return records.map((record) => {
    // Without a prototype: a column may be called __proto__.
    const row: Record<string, unknown> = Object.create(null)
    fields.forEach((field, i) => {
      if ((record[i] ?? '') !== '') row[field] = record[i]
    })
    return row
  })
}
