import { SelectField } from '~/ui/Field'

/** Which of these sources is worked with. */
export function SourceSelect({
  sources,
  value,
  onChange,
}: {
  sources: readonly { id: string; name: string }[]
  value: string
  onChange(id: string): void
}) {
  return (
    <SelectField label="Source" value={value} onChange={(e) => onChange(e.target.value)}>
      {sources.map((s) => (
        <option key={s.id} value={s.id}>
          {s.name}
        </option>
      ))}
    </SelectField>
  )
}
