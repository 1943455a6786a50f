import type { Tag } from '~/contract/tag'
import { columnIndex, type Surroundings, tagColumns } from '~/core/tag/columns'
import { finish, type PlannedRow, planRows } from '~/core/tag/plan'
import { typedNumber } from '~/core/value/typed-number'

/** What giving some cells of one tag these texts would do; names and nodes of other tags are the server's to look at. */
export function planCells(tag: Tag, cells: Readonly<Record<string, string>>, around: Surroundings): PlannedRow {
  const keys = Object.keys(cells)
  const rows = [{ line: 1, cells: [tag.id, ...keys.map((k) => typedCell(k, cells[k]!))] }]
  return finish(planRows({ heading: ['id', ...keys], rows, tags: [tag], around, decimal: '.' })).rows[0]!
}

/** A decimal comma is read like a point: by hand, there is no column to part. */
const typedCell = (key: string, text: string) =>
  tagColumns[columnIndex.get(key)!]?.numeric && typedNumber(text.replace(/%\s*$/, '')) !== null ? text.replace(',', '.') : text
