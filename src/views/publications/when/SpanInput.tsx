import { NumberBox } from '../../shared/NumberBox'

interface Props {
  label: string
  /** s; undefined: none is wanted; NaN: what is typed is no number. */
  value: number | undefined
  error?: string | undefined
  onChange(value: number | undefined): void
}

/** A span of seconds that stays as it is typed; empty where none is wanted. */
export function SpanInput({ label, value, error, onChange }: Props) {
  return (
    <span className="inline-flex items-center gap-1.5">
      <NumberBox label={label} value={value ?? null} error={error} onChange={(span) => onChange(span ?? undefined)} />s
    </span>
  )
}
