import type { RowColumn, RowsLook } from '~/contract/row-place'
import type { DataType } from '~/contract/tag'
import { countText } from '~/ui/time'

const types: readonly DataType[] = ['number', 'integer', 'boolean', 'text', 'time']

interface Props {
  chosen: readonly RowColumn[]
  /** What the source has now; null: it is being looked at. */
  look: RowsLook | null
  /** What becomes of its rows. */
  says: string
  error: string | undefined
  onColumns(columns: RowColumn[]): void
}

/** The columns that there are, and those that were chosen before and are gone; chosen ones with their type and unit. */
export function ColumnsTable({ chosen: columns, look, says, error, onColumns }: Props) {
  const there = look?.columns ?? []
  const chosen = new Map(columns.map((c) => [c.name, c]))
  const gone = columns.filter((c) => !there.some((t) => t.name === c.name)).map((c) => ({ ...c, value: '' }))
  const all = [...there, ...gone]
  const change = (name: string, part: Partial<RowColumn>) => onColumns(columns.map((c) => (c.name === name ? { ...c, ...part } : c)))
  const tick = ({ name, dataType }: RowColumn, on: boolean) =>
    onColumns(on ? [...columns, { name, dataType, unit: '' }] : columns.filter((c) => c.name !== name))
  return (
    <div className="mt-1.5">
      <p className="text-muted" role="status">
        {look === null
          ? 'Looks at its last answer...'
          : look.problem !== ''
            ? `${look.problem}. Its source is asked at its own rate.`
            : `Now ${countText(look.rows)} ${look.rows === 1 ? 'row' : 'rows'}: ${says}.`}
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
