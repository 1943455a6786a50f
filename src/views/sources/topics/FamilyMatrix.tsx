import { useMemo } from 'react'
import { displayValue } from '~/core/value/datatype'
import { Glyph } from '~/ui/Glyph'
import { TableHead } from '~/ui/TableHead'
import { countText } from '~/ui/time'
import type { FamilyPicking } from './FamilyList'
import type { HeardFamily } from './heard-families'
import { matrixOf } from './matrix'
import type { TopicLeaf } from './topic-tree'

/** So many topics stand side by side, and so many leaves under each other. */
const COLUMNS = 8
const ROWS = 120

interface Props {
  family: HeardFamily
  onTopic(topic: string): void
  shown: string | null
  picking: FamilyPicking
}

/** The leaves of a family by topic, with their last values; a leaf is taken by itself, for all topics, or for one. */
export function FamilyMatrix({ family, onTopic, shown, picking }: Props) {
  const matrix = useMemo(() => matrixOf(family), [family])
  const { picked, taken, pick } = picking
  const columns = matrix.columns.slice(0, COLUMNS)
  if (matrix.rows.length === 0)
    return <p className="text-muted">Nothing in these payloads can be read as a value. The last message stands in the peek.</p>
  const headOf = ({ topic, label }: (typeof columns)[number]) =>
    topic === null ? (
      label
    ) : (
      <button
        type="button"
        aria-pressed={shown === topic}
        title={`Look at ${topic}`}
        onClick={() => onTopic(topic)}
        className={`rounded-sm px-1 text-slate hover:bg-wash ${shown === topic ? 'bg-wash' : ''}`}
      >
        {label}
      </button>
    )
  return (
    <div className="overflow-x-auto">
      <table aria-label="Leaves by topic" className="w-full text-[13px]">
        <TableHead columns={[{ key: 'leaf', head: 'Leaf' }, ...columns.map((column) => ({ key: column.key, right: true, head: headOf(column) }))]} />
        <tbody>
          {matrix.rows.slice(0, ROWS).map((row) => {
            const free = row.cells.filter((cell): cell is TopicLeaf => cell !== null && !taken.has(cell.address))
            const on = free.filter((cell) => picked.has(cell.address)).length
            return (
              <tr key={row.label} className="border-b border-line/70 last:border-0">
                <th className="px-2 py-[3px] text-left font-normal">
                  <label className="flex items-center gap-2">
                    <input
                      type="checkbox"
                      className="accent-(--clay)"
                      checked={free.length === 0 || on === free.length}
                      ref={(box) => {
                        if (box) box.indeterminate = on > 0 && on < free.length
                      }}
                      disabled={free.length === 0}
                      onChange={(e) => pick(free, e.target.checked)}
                    />
                    <span className="font-mono text-[12.5px] break-all">{row.label}</span>
                  </label>
                </th>
                {row.cells.slice(0, COLUMNS).map((cell, i) => (
                  <td key={columns[i]!.key} className="px-2 text-right">
                    {cell ? (
                      <Cell cell={cell} role={picking.role(cell)} name={`${row.label} of ${columns[i]!.label}`} picking={picking} />
                    ) : (
                      <span className="text-muted">-</span>
                    )}
                  </td>
                ))}
              </tr>
            )
          })}
        </tbody>
      </table>
      {(matrix.columns.length > COLUMNS || matrix.rows.length > ROWS) && (
        <p className="pt-2 text-xs text-muted">
          {matrix.columns.length > COLUMNS && `${countText(matrix.columns.length - COLUMNS)} more beside these. `}
          {matrix.rows.length > ROWS && `${countText(matrix.rows.length - ROWS)} more leaves. `}A tick at the left takes all of them; one by one they
          stand under <em>Single topics</em>.
        </p>
      )}
    </div>
  )
}

/** As values are shown elsewhere; what the message holds, digit by digit, stands in the peek. */
const shownValue = ({ value, dataType }: TopicLeaf) => (dataType === 'number' && value.trim() !== '' ? displayValue(Number(value)) : value || '""')

const roleWords = { time: 'its time', quality: 'its quality' }

function Cell({ cell, role, name, picking }: { cell: TopicLeaf; role: 'time' | 'quality' | null; name: string; picking: FamilyPicking }) {
  const { picked, taken, pick } = picking
  const tag = taken.get(cell.address)
  const on = picked.has(cell.address)
  if (role && !on) return <span className="text-xs text-slate">{roleWords[role]}</span>
  return (
    <button
      type="button"
      aria-pressed={on}
      disabled={tag !== undefined}
      title={tag === undefined ? (on ? `Leave out ${name}` : `Take ${name}`) : `is ${tag}`}
      aria-label={`${name}: ${cell.value}${tag === undefined ? '' : `, is ${tag}`}`}
      onClick={() => pick([cell], !on)}
      className={`inline-flex max-w-40 items-center justify-end gap-1.5 rounded-sm border px-1 font-mono text-[12.5px] ${on ? 'border-clay bg-clay-wash' : 'border-transparent hover:border-line'}`}
    >
      {tag !== undefined && <Glyph state="good" title={`is ${tag}`} />}
      <span className="truncate">{shownValue(cell)}</span>
      {cell.unit && <span className="text-muted">{cell.unit}</span>}
    </button>
  )
}
