import type { InputHTMLAttributes } from 'react'
import type { TagColumn } from '~/core/tag/columns'
import { units } from '~/core/value/unit'
import { useCall } from '../../app/api'

interface Props extends Omit<InputHTMLAttributes<HTMLInputElement>, 'value' | 'onChange'> {
  column: TagColumn
  value: string
  onValue(text: string): void
}

/** What a column is typed or chosen with: its choices, the sampling groups, units with their codes, or free text. */
export function CellInput({ column, value, onValue, className = '', ...rest }: Props) {
  const groups = useCall('listGroups', { enabled: column.key === 'group' })
  const choices = column.key === 'group' ? ['', ...(groups.data ?? []).map((g) => g.name)] : column.choices
  if (choices)
    return (
      <select
        {...(rest as object)}
        value={value}
        onChange={(e) => onValue(e.target.value)}
        className={`min-w-0 rounded-sm border bg-sheet px-1 ${className}`}
      >
        {choices.map((c) => (
          <option key={c} value={c}>
            {c === '' ? '-' : c}
          </option>
        ))}
      </select>
    )
  return (
    <>
      <input
        autoComplete="off"
        spellCheck={false}
        {...rest}
        value={value}
        onChange={(e) => onValue(e.target.value)}
        {...(column.key === 'unit' && { list: 'units' })}
        className={`min-w-0 rounded-sm border bg-sheet px-1.5 ${column.numeric || column.key === 'address' || column.key === 'format' ? 'font-mono text-[12.5px]' : ''} ${className}`}
      />
      {column.key === 'unit' && <Units />}
    </>
  )
}

function Units() {
  return (
    <datalist id="units">
      {units.map((u) => (
        <option key={u.symbol} value={u.symbol}>
          {`${u.name} · UCUM ${u.ucum}${u.cefact ? ` · UN/CEFACT ${u.cefact}` : ''}`}
        </option>
      ))}
    </datalist>
  )
}
