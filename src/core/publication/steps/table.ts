import Papa from 'papaparse'
import { LookupTable } from '~/contract/step'
import { decodeText } from '../../tag/sheet'

/** A table out of a file of comma, semicolon or tab separated values (RFC 4180), its first row the names; or what is wrong with it. */
export function tableFrom(bytes: Uint8Array): { table: LookupTable } | { problem: string } {
  const { text } = decodeText(bytes)
  if (text.includes('\0')) return { problem: 'It is no text: it has octets of zero in it' }
  const { data, errors } = Papa.parse<string[]>(text, { skipEmptyLines: 'greedy' })
  const broken = errors.find((e) => e.type === 'Quotes')
  if (broken) return { problem: `Row ${(broken.row ?? 0) + 1}: ${broken.message}` }
  const [heading, ...rows] = data.map((row) => row.map((cell) => cell.trim()))
  if (!heading || rows.length === 0) return { problem: 'It has no rows under its names' }
  const parsed = LookupTable.safeParse({ columns: heading, rows })
  if (parsed.success) return { table: parsed.data }
  const [issue] = parsed.error.issues
  return {
    problem: issue!.path[0] === 'columns' && typeof issue!.path[1] === 'number' ? `Column ${issue!.path[1] + 1}: ${issue!.message}` : issue!.message,
  }
}
