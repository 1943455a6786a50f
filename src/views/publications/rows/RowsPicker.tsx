import type { RowPick } from '~/contract/rows'
import type { Source } from '~/contract/source'
import { CheckField, TextField } from '~/ui/Field'
import { countText } from '~/ui/time'
import { RowSource } from './RowSource'

/** A publication of rows before anything of it is chosen. */
export const freshRows: RowPick = { sourceId: '', at: '', key: '', columns: [] }

/** `rows of Works orders, 6 columns`. */
export function rowsWords({ sourceId, columns }: RowPick, sources: readonly Pick<Source, 'id' | 'name'>[]): string {
  const source = sources.find((s) => s.id === sourceId)?.name
  if (source === undefined) return 'rows of a source'
  return `rows of ${source}, ${countText(columns.length)} ${columns.length === 1 ? 'column' : 'columns'}`
}

interface Props {
  rows: RowPick
  /** What is wrong, by field. */
  fields: Readonly<Record<string, string>>
  onRows(rows: RowPick): void
}

/** Rows of a query or of a JSON document: which source, which columns, and what a message says of them. */
export function RowsPicker({ rows, fields, onRows }: Props) {
  return (
    <div>
      <RowSource
        chosen={rows}
        says="each is a message, its columns are the members"
        error={(field) => fields[`rows.${field}`]}
        onChange={(chosen) => onRows({ ...rows, ...chosen })}
      />
      {rows.sourceId !== '' && <Told {...{ rows, fields, onRows }} />}
    </div>
  )
}

/** What a message says of a row beside its columns. */
function Told({ rows, fields, onRows }: Props) {
  const { nameAs: _n, changeAs: _c, removed: _r, ...bare } = rows
  const set = (part: Pick<RowPick, 'nameAs' | 'changeAs' | 'removed'>) => {
    const next = { nameAs: rows.nameAs, changeAs: rows.changeAs, removed: rows.removed, ...part }
    onRows({ ...bare, ...Object.fromEntries(Object.entries(next).filter(([, v]) => v !== undefined && v !== '')) })
  }
  return (
    <div className="mt-2 border-t border-line pt-1.5">
      <TextField
        label="Name as"
        help="A member with what tells the row from others; empty: none"
        mono
        value={rows.nameAs ?? ''}
        error={fields['rows.nameAs']}
        onChange={(e) => set({ nameAs: e.target.value })}
      />
      <TextField
        label="Change as"
        help="A member that says added, changed or removed; empty: none"
        mono
        value={rows.changeAs ?? ''}
        error={fields['rows.changeAs']}
        onChange={(e) => set({ changeAs: e.target.value })}
      />
      <CheckField
        label="Removed rows too"
        help="A row that is gone is said once more, with what it said last"
        checked={rows.removed ?? false}
        onChange={(e) => set({ removed: e.target.checked || undefined })}
      />
    </div>
  )
}
