import type { ProofLimits } from '~/contract/prove'
import { NumberBox } from '../../shared/NumberBox'

const counted: { key: keyof ProofLimits; label: string }[] = [
  { key: 'missing', label: 'missing' },
  { key: 'doubled', label: 'doubled' },
  { key: 'altered', label: 'altered' },
  { key: 'disordered', label: 'out of order' },
  { key: 'late', label: 'late' },
  { key: 'dropped', label: 'dropped' },
  { key: 'rejected', label: 'rejected' },
  { key: 'unknown', label: 'unknown' },
]

interface Props {
  limits: ProofLimits
  error(field: string): string | undefined
  onLimits(limits: ProofLimits): void
}

/** Of how many messages what may be so at most; empty: that is not held. */
export function LimitFields({ limits, error, onLimits }: Props) {
  const wrong = [...counted.map((c) => c.key), 'p99Ms', 'recoveredS'].map((key) => error(`limits.${key}`)).find((e) => e !== undefined)
  const box = (key: keyof ProofLimits, label: string, width?: string) => (
    <NumberBox
      label={label}
      value={limits[key]}
      error={error(`limits.${key}`)}
      {...(width && { width })}
      onChange={(n) => onLimits({ ...limits, [key]: n })}
    />
  )
  return (
    <fieldset aria-label="Limits" className="grid gap-1.5">
      <div className="flex flex-wrap items-center gap-x-4 gap-y-1.5">
        at most
        {counted.map(({ key, label }) => (
          <span key={key} className="flex items-center gap-1.5">
            {box(key, `${label}, at most`, 'w-14')} {label}
          </span>
        ))}
      </div>
      <div className="flex flex-wrap items-center gap-x-5 gap-y-1.5">
        <span className="flex items-center gap-1.5">99 of 100 arrive within {box('p99Ms', '99 of 100 arrive within, ms')} ms</span>
        <span className="flex items-center gap-1.5">well again within {box('recoveredS', 'Well again within, s')} s after each fault</span>
      </div>
      <p className={`text-xs ${wrong ? 'text-bad' : 'text-muted'}`} role={wrong ? 'alert' : undefined}>
        {wrong ?? 'Empty: it is not held. What nobody can measure, as without a witness, is neither held nor broken, and the run is unproven.'}
      </p>
    </fieldset>
  )
}
