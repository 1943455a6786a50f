import { type InputHTMLAttributes, useState } from 'react'

interface Props extends Omit<InputHTMLAttributes<HTMLInputElement>, 'value' | 'onChange' | 'type'> {
  /** Null where what was kept is none. */
  value: number | null
  /** Reads what is typed; null: it is no number. */
  read(text: string): number | null
  /** NaN while what stands there is no number. */
  onNumber(value: number): void
}

/** A number that stays as it is typed; it is read with each character. */
export function NumberInput({ value, read, onNumber, ...rest }: Props) {
  const [text, setText] = useState(String(value))
  // Whoever sets another number from outside sees it.
  const typed = read(text)
  const shown = typed === value || (typed === null && (value === null || Number.isNaN(value))) ? text : String(value ?? '')
  return (
    <input
      inputMode="decimal"
      autoComplete="off"
      aria-invalid={typed === null}
      {...rest}
      value={shown}
      onChange={(e) => {
        setText(e.target.value)
        onNumber(read(e.target.value) ?? Number.NaN)
      }}
    />
  )
}
