import { useState } from 'react'
import { typedNumber } from '~/core/value/typed-number'

interface Props {
  label: string
  /** Null: none is wanted; NaN: what is typed is no number. */
  value: number | null
  error?: string | undefined
  width?: string
  onChange(value: number | null): void
}

const read = (text: string): number | null => (text.trim() === '' ? null : (typedNumber(text) ?? Number.NaN))

/** A number that stays as it is typed; empty where none is wanted. */
export function NumberBox({ label, value, error, width = 'w-20', onChange }: Props) {
  const [text, setText] = useState(value === null ? '' : String(value))
  // Whoever sets another number from outside sees it.
  const shown = Object.is(read(text), value) ? text : value === null ? '' : String(value)
  return (
    <input
      aria-label={label}
      aria-invalid={error !== undefined}
      inputMode="decimal"
      autoComplete="off"
      placeholder="-"
      className={`field ${width} font-mono ${error ? 'border-bad' : ''}`}
      value={shown}
      onChange={(e) => {
        setText(e.target.value)
        onChange(read(e.target.value))
      }}
    />
  )
}
