import { useState } from 'react'
import { typedNumber } from '~/core/value/typed-number'

interface Props {
  label: string
  /** s; undefined: none is wanted; NaN: what is typed is no number. */
  value: number | undefined
  error?: string | undefined
  onChange(value: number | undefined): void
}

const read = (text: string): number | undefined => (text.trim() === '' ? undefined : (typedNumber(text) ?? Number.NaN))

/** A span of seconds that stays as it is typed; empty where none is wanted. */
export function SpanInput({ label, value, error, onChange }: Props) {
  const [text, setText] = useState(value === undefined ? '' : String(value))
  // Whoever sets another number from outside sees it.
  const shown = Object.is(read(text), value ?? undefined) ? text : String(value ?? '')
  return (
    <span className="inline-flex items-center gap-1.5">
      <input
        aria-label={label}
        aria-invalid={error !== undefined}
        inputMode="decimal"
        autoComplete="off"
        placeholder="-"
        className={`field w-20 font-mono ${error ? 'border-bad' : ''}`}
        value={shown}
        onChange={(e) => {
          setText(e.target.value)
          onChange(read(e.target.value))
        }}
      />
      s
    </span>
  )
}
