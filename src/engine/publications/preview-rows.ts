import { fail } from '~/contract/failure'
import type { PublicationDraft } from '~/contract/publication'
import type { RowPlace, RowsLook } from '~/contract/row-place'
import type { PlanRows } from '~/contract/rows'
import type { LookupAnswer } from '~/core/rows/looked-up'
import { firstRow, lookAtRows, type ReadRow } from '~/core/rows/read'
import type { Scalar } from '~/core/value/deadband'
import { Status } from '~/core/value/quality'
import { LiveTable } from '../live/table'
import type { Documents } from '../sources/documents'

/** The first of the rows of a source, as they are now. */
export interface RowNow {
  row: ReadRow | null
  count: number
  /** Epoch ms. */
  at: number
  /** Why there is none, or why it may be old. */
  problem: string
}

const SILENT = 'It has not answered yet'

/** What sources answered last, for what is looked up in their rows. */
export const answersNow = (documents: Documents, sourceIds: readonly string[]): LookupAnswer[] =>
  sourceIds.map((id) => {
    const { document, lost } = documents.of(id) ?? { document: undefined, lost: null }
    return { document, lost: lost ? lost.message : document === undefined ? SILENT : null }
  })

/** Which columns the rows of a source have, by its last answer. */
export function rowsLook(documents: Documents, sourceId: string, place: RowPlace): RowsLook {
  const answered = documents.of(sourceId)
  if (answered?.document === undefined) return { rows: 0, columns: [], problem: answered?.lost?.message ?? SILENT }
  return lookAtRows(answered.document, place)
}

/** The first row, out of its last answer. */
export function rowNow(documents: Documents, asked: PlanRows): RowNow {
  const answered = documents.of(asked.sourceId)
  if (answered?.document === undefined) return { row: null, count: 0, at: 0, problem: answered?.lost?.message ?? SILENT }
  const problem = lookAtRows(answered.document, asked).problem || (answered.lost?.message ?? '')
  return { ...firstRow(answered.document, asked, asked.columns), at: answered.at, problem }
}

/** What rows were is not recorded, so that nothing can be reckoned from it. */
export function demandTags({ rows }: PublicationDraft, of: 'budget' | 'replay'): void {
  if (!rows) return
  const hint = 'Its preflight reckons with as many rows as there are now'
  throw fail(422, `${of}.rows`, 'What the rows of a source were is not recorded, only what tags are', hint, 'publication')
}

/** A table with one row in it, in the places that its plan has for it. */
export function rowTable(feed: PlanRows, row: ReadRow | null, at: number): LiveTable {
  const table = new LiveTable()
  if (!row) return table
  const put = (handles: (number | null)[], values: Scalar[], statuses: number[]) => {
    const there = handles.flatMap((h, i) => (h === null ? [] : [i]))
    table.apply({
      handles: there.map((i) => handles[i]!),
      values: there.map((i) => values[i]!),
      statuses: there.map((i) => statuses[i]!),
      times: there.map(() => at),
    })
  }
  put(
    feed.columns.map((c) => c.handle),
    row.values,
    row.status,
  )
  put([feed.nameHandle, feed.changeHandle], [row.name, 'changed'], [Status.good, Status.good])
  return table
}
