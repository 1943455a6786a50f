import { toast } from 'sonner'
import type { Tag } from '~/contract/tag'
import { tagColumns } from '~/core/tag/columns'
import { countText } from '~/ui/time'
import { failureIn } from '../../app/api'
import { saveFile } from '../../shared/save-file'
import { writeInWorker } from './planning'
import type { Around } from './planning.worker'

export const exportKinds = ['csv', 'semicolons', 'xlsx'] as const
export type ExportKind = (typeof exportKinds)[number]
export const exportLabel: Record<ExportKind, string> = { csv: 'CSV', semicolons: 'CSV with semicolons and decimal commas', xlsx: 'XLSX' }
const type = (kind: ExportKind) => (kind === 'xlsx' ? 'application/vnd.openxmlformats-officedocument.spreadsheetml.sheet' : 'text/csv;charset=utf-8')

/** Writes tags with all their columns to a file that the browser keeps. */
export async function exportTags(tags: readonly Tag[], around: Around, kind: ExportKind): Promise<void> {
  const id = toast.loading(`Writing ${countText(tags.length)} tags`)
  try {
    const how = kind === 'xlsx' ? 'XLSX' : kind === 'csv' ? ({ separator: ',', decimal: '.' } as const) : ({ separator: ';', decimal: ',' } as const)
    const made = await writeInWorker({ do: 'write', columns: tagColumns.map((c) => c.key), how }, tags, around)
    // With its mark, spreadsheets take text for UTF-8.
    const blob = new Blob(kind === 'xlsx' ? [made as BlobPart] : ['\ufeff', made as string], { type: type(kind) })
    const name = kind === 'xlsx' ? 'tags.xlsx' : 'tags.csv'
    saveFile(name, blob)
    toast(`${countText(tags.length)} tags written to ${name}`, { id })
  } catch (e) {
    toast.error(failureIn(e).message, { id, description: failureIn(e).hint })
  }
}
