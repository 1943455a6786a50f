import { format } from 'date-fns'

/** A moment, by the clock of this browser; null: now. */
export function MomentField({ label, value, onChange }: { label: string; value: number | null; onChange(t: number | null): void }) {
  return (
    <label className="inline-flex max-w-full flex-wrap items-center gap-1.5 text-muted">
      {label}
      <input
        type="datetime-local"
        step="1"
        data-filter
        className="field max-w-full"
        value={value === null ? '' : format(value, "yyyy-MM-dd'T'HH:mm:ss")}
        onChange={(e) => {
          const t = Date.parse(e.target.value)
          onChange(Number.isNaN(t) ? null : t)
        }}
      />
    </label>
  )
}
