import type { RowColumn, RowPick, RowsLook } from '~/contract/rows'
import type { Source } from '~/contract/source'
import type { DataType } from '~/contract/tag'
import { givesRows } from '~/core/rows/kinds'
import { CheckField, SelectField, TextField } from '~/ui/Field'
import { countText } from '~/ui/time'
import { call, useCall } from '../app/api'
import { Failed } from '../shared/Failed'
import { tellFailure } from '../shared/problems'

/** A publication of rows before anything of it is chosen. */
export const freshRows: RowPick = { sourceId: '', at: '', key: '', columns: [] }

const types: readonly DataType[] = ['number', 'integer', 'boolean', 'text', 'time']

/** `rows of Works orders`. */
export function rowsWords({ sourceId, columns }: RowPick, sources: readonly Pick<Source, 'id' | 'name'>[]): string {
  const source = sources.find((s) => s.id === sourceId)?.name
  if (source === undefined) return 'rows of a source'
  return `rows of ${source}, ${countText(columns.length)} ${columns.length === 1 ? 'column' : 'columns'}`
}

const asColumns = (look: RowsLook): RowColumn[] => look.columns.map(({ name, dataType }) => ({ name, dataType, unit: '' }))

interface Props {
  rows: RowPick
  /** What is wrong, by field. */
  fields: Readonly<Record<string, string>>
  onRows(rows: RowPick): void
}

/** Rows of a query or of a JSON document: which source, which columns, and what a message says of them. */
export function RowsPicker({ rows, fields, onRows }: Props) {
  const sources = useCall('listSources')
  const able = (sources.data ?? []).filter((s) => givesRows(s.kind))
  const source = able.find((s) => s.id === rows.sourceId)
  const { at, key } = rows
  const look = useCall('lookAtRows', {
    params: { id: rows.sourceId },
    body: { at, key },
    enabled: source !== undefined && fields['rows.at'] === undefined,
    keepPrevious: true,
    refetchMs: 5000,
  })
  const choose = async (sourceId: string) => {
    const fresh = { ...freshRows, sourceId, changeAs: rows.changeAs, removed: rows.removed, nameAs: rows.nameAs }
    onRows(fresh)
    try {
      const found = await call('lookAtRows', { params: { id: sourceId }, body: { at: '', key: '' } })
      if (found.columns.length > 0) onRows({ ...fresh, columns: asColumns(found) })
    } catch (e) {
      tellFailure(e)
    }
  }
  if (sources.data && able.length === 0)
    return (
      <p>
        No source gives rows: they come from a query on a database or from a JSON document.{' '}
        <a className="text-slate underline" href="/sources">
          Add one under Sources
        </a>
        .
      </p>
    )
  return (
    <div>
      <SelectField
        label="Source"
        error={fields['rows.sourceId'] && 'Which source?'}
        value={source ? rows.sourceId : ''}
        onChange={(e) => void choose(e.target.value)}
      >
        <option value="" disabled>
          choose a query or a JSON document
        </option>
        {able.map((s) => (
          <option key={s.id} value={s.id}>
            {s.name}
          </option>
        ))}
      </SelectField>
      {source && (
        <>
          {source.kind === 'http' && <Place {...{ rows, fields, onRows }} columns={look.data?.columns ?? []} />}
          <Failed of={look} />
          <Columns rows={rows} look={look.data ?? null} error={fields['rows.columns']} onRows={onRows} />
          <Told {...{ rows, fields, onRows }} />
        </>
      )}
    </div>
  )
}

/** Where in a document its rows stand. */
function Place({ rows, fields, columns, onRows }: Props & { columns: RowsLook['columns'] }) {
  return (
    <>
      <TextField
        label="Rows stand at"
        help="As RFC 6901 has it: /orders/open; empty: the whole answer is the rows"
        mono
        value={rows.at}
        error={fields['rows.at']}
        onChange={(e) => onRows({ ...rows, at: e.target.value })}
      />
      <SelectField
        label="Told apart by"
        help="Of a list; rows that stand under names are told apart by those"
        value={rows.key}
        onChange={(e) => onRows({ ...rows, key: e.target.value })}
      >
        <option value="">their place, or their name</option>
        {[...new Set([...columns.map((c) => c.name), ...(rows.key === '' ? [] : [rows.key])])].map((name) => (
          <option key={name}>{name}</option>
        ))}
      </SelectField>
    </>
  )
}

/** The columns that there are, and those that were chosen before and are gone; chosen ones with their type and unit. */
function Columns({ rows, look, error, onRows }: { rows: RowPick; look: RowsLook | null; error: string | undefined; onRows(rows: RowPick): void }) {
  const there = look?.columns ?? []
  const chosen = new Map(rows.columns.map((c) => [c.name, c]))
  const gone = rows.columns.filter((c) => !there.some((t) => t.name === c.name)).map((c) => ({ ...c, value: '' }))
  const all = [...there, ...gone]
  const set = (columns: RowColumn[]) => onRows({ ...rows, columns })
  const change = (name: string, part: Partial<RowColumn>) => set(rows.columns.map((c) => (c.name === name ? { ...c, ...part } : c)))
  const tick = ({ name, dataType }: RowColumn, on: boolean) =>
    set(on ? [...rows.columns, { name, dataType, unit: '' }] : rows.columns.filter((c) => c.name !== name))
  return (
    <div className="mt-1.5">
      <p className="text-muted" role="status">
        {look === null
          ? 'Looks at its last answer...'
          : look.problem !== ''
            ? `${look.problem}. Its source is asked at its own rate.`
            : `Now ${countText(look.rows)} ${look.rows === 1 ? 'row' : 'rows'}: each is a message, its columns are the members.`}
      </p>
      {error && (
        <p role="alert" className="text-xs text-bad">
          {error}
        </p>
      )}
      {all.length > 0 && (
        <div className="mt-1 max-h-64 overflow-auto rounded-sm border border-line bg-paper">
          <table className="w-full text-[13px]" aria-label="Columns">
            <thead className="sticky top-0 bg-paper text-left text-muted">
              <tr className="h-[26px] border-b border-line">
                <th scope="col" className="px-2 font-normal">
                  column
                </th>
                <th scope="col" className="font-normal">
                  type
                </th>
                <th scope="col" className="font-normal">
                  unit
                </th>
                <th scope="col" className="font-normal">
                  first row now
                </th>
              </tr>
            </thead>
            <tbody>
              {all.map((c) => {
                const own = chosen.get(c.name)
                return (
                  <tr key={c.name} className="h-[28px]">
                    <td className="px-2">
                      <label className="flex items-center gap-2 font-mono">
                        <input type="checkbox" className="accent-(--clay)" checked={own !== undefined} onChange={(e) => tick(c, e.target.checked)} />
                        <span className={`max-w-56 truncate ${gone.includes(c) ? 'text-uncertain' : ''}`} title={c.name}>
                          {c.name}
                        </span>
                      </label>
                    </td>
                    <td>
                      {own && (
                        <select
                          aria-label={`Type of ${c.name}`}
                          className="field"
                          value={own.dataType}
                          onChange={(e) => change(c.name, { dataType: e.target.value as DataType })}
                        >
                          {types.map((t) => (
                            <option key={t}>{t}</option>
                          ))}
                        </select>
                      )}
                    </td>
                    <td>
                      {own && (
                        <input
                          aria-label={`Unit of ${c.name}`}
                          className="field w-20"
                          value={own.unit}
                          onChange={(e) => change(c.name, { unit: e.target.value })}
                        />
                      )}
                    </td>
                    <td className="max-w-56 truncate pr-2 font-mono text-muted" title={c.value}>
                      {gone.includes(c) ? 'not there now' : c.value}
                    </td>
                  </tr>
                )
              })}
            </tbody>
          </table>
        </div>
      )}
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
