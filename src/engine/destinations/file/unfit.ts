import { type FileType, typesOf } from '~/contract/addresses/file'
import type { FileSettings } from '~/contract/destinations/file'
import type { Failure } from '~/contract/failure'
import type { Envelope } from '~/core/delivery/envelope'
import { unpackProperties } from '~/core/delivery/properties'
import { own } from '~/core/value/own'
import { rowsOf } from '../rows'
import { columnsOf, fits } from './columns'
import { isPlace } from './names'

/** Types of the columns of a place, as its files had them so far. */
export type Known = Map<string, FileType>

const unfit = (code: string, message: string, hint: string): Failure => ({
  code: `file.${code}`,
  message: message.slice(0, 400),
  hint,
  where: 'destination',
})

/** Why a message can stand in no file of this destination; null: it can. */
export function unfitFor(e: Envelope, { format, idColumn }: Pick<FileSettings, 'format' | 'idColumn'>): Failure | null {
  const { topic } = e
  if (!isPlace(topic))
    return unfit('path', `${topic}: it is no path of a file`, 'Take another template: values in it may be empty, or begin with a dot')
  const read = rowsOf(e)
  if (!read) return unfit('no-rows', `${topic}: the message is no JSON object, nor a list of them`, 'Take a shape in JSON, without compression')
  const columns = columnsOf(read.rows)
  if (idColumn !== '' && columns.includes(idColumn)) return unfit('name', `${topic}: ${idColumn} is filled by Embrik`, 'Give the member another name')
  if (columns.length === 0 && idColumn === '')
    return unfit('empty', `${topic}: the message has nothing that a row could hold`, 'Send a member that always has a value')
  if (format !== 'parquet') return null
  for (const [column, type] of typesOf(unpackProperties(e.properties).how ?? '') ?? []) {
    const wrong = read.rows.map((row) => own(row, column)).find((v) => v !== null && v !== undefined && !fits(type, v))
    if (wrong !== undefined)
      return unfit(
        'type',
        `${topic}: ${column} is to be ${type} and holds ${JSON.stringify(String(wrong)).slice(0, 60)}`,
        'Change its type in the address, or what is sent in it',
      )
  }
  return null
}
