import { Plus, X } from 'lucide-react'
import type { Destination } from '~/contract/destination'
import type { FaultKind, ProofFault } from '~/contract/prove'
import { Button } from '~/ui/Button'
import { SpanInput } from '../../publications/when/SpanInput'
import { NumberBox } from '../../shared/NumberBox'
import { faultKinds, freshFault } from './words'

interface Props {
  faults: readonly ProofFault[]
  seconds: number
  /** Those that the chosen publications go to, and that have a link that can fail. */
  destinations: readonly Destination[]
  error(field: string): string | undefined
  onFaults(faults: ProofFault[]): void
}

/** Faults, one a row: which link, how, when, for how long. */
export function FaultFields({ faults, seconds, destinations, error, onFaults }: Props) {
  const change = (i: number, part: Partial<ProofFault>) => onFaults(faults.map((f, n) => (n === i ? { ...f, ...part } : f)))
  return (
    <div className="grid gap-1.5">
      {faults.map((f, i) => {
        const wrong = ['atS', 'forS', 'ms', 'octetsPerS', 'destinationId'].map((field) => error(`faults.${i}.${field}`)).find((e) => e !== undefined)
        return (
          // biome-ignore lint/suspicious/noArrayIndexKey: a fault is its place
          <fieldset key={i} className="rounded-sm border border-line px-2 py-1" aria-label={`Fault ${i + 1}`}>
            <div className="flex flex-wrap items-center gap-2">
              <select
                aria-label="Destination"
                className="field max-w-44"
                value={f.destinationId}
                onChange={(e) => change(i, { destinationId: e.target.value })}
              >
                {destinations.map((d) => (
                  <option key={d.id} value={d.id}>
                    {d.name}
                  </option>
                ))}
                {!destinations.some((d) => d.id === f.destinationId) && <option value={f.destinationId}>no destination of the run</option>}
              </select>
              <select aria-label="Kind of fault" className="field" value={f.kind} onChange={(e) => change(i, { kind: e.target.value as FaultKind })}>
                {faultKinds.map((k) => (
                  <option key={k.value} value={k.value}>
                    {k.label}
                  </option>
                ))}
              </select>
              {f.kind === 'silent' && (
                <select
                  aria-label="Which way"
                  className="field"
                  value={f.way}
                  onChange={(e) => change(i, { way: e.target.value as ProofFault['way'] })}
                >
                  <option value="both">both ways</option>
                  <option value="there">on the way there</option>
                  <option value="back">on the way back</option>
                </select>
              )}
              {f.kind === 'slow' && (
                <span className="flex items-center gap-1">
                  by
                  <NumberBox label="Later by" value={f.ms} error={error(`faults.${i}.ms`)} onChange={(ms) => change(i, { ms: ms ?? Number.NaN })} />
                  ms
                </span>
              )}
              {f.kind === 'thin' && (
                <span className="flex items-center gap-1">
                  <NumberBox
                    label="Octets a second"
                    value={f.octetsPerS}
                    error={error(`faults.${i}.octetsPerS`)}
                    onChange={(n) => change(i, { octetsPerS: n ?? Number.NaN })}
                  />
                  octets/s
                </span>
              )}
              <span className="flex items-center gap-1">
                after
                <SpanInput label="After" value={f.atS} error={error(`faults.${i}.atS`)} onChange={(atS) => change(i, { atS: atS ?? Number.NaN })} />
              </span>
              {f.kind !== 'kill' && (
                <span className="flex items-center gap-1">
                  for
                  <SpanInput
                    label="Lasts"
                    value={f.forS}
                    error={error(`faults.${i}.forS`)}
                    onChange={(forS) => change(i, { forS: forS ?? Number.NaN })}
                  />
                </span>
              )}
              <button
                type="button"
                aria-label={`Take out fault ${i + 1}`}
                className="ml-auto text-muted hover:text-ink"
                onClick={() => onFaults(faults.filter((_, n) => n !== i))}
              >
                <X size={14} />
              </button>
            </div>
            <p className={`text-xs ${wrong ? 'text-bad' : 'text-muted'}`} role={wrong ? 'alert' : undefined}>
              {wrong ?? faultKinds.find((k) => k.value === f.kind)!.says}
            </p>
          </fieldset>
        )
      })}
      <div>
        <Button small disabled={destinations.length === 0} onClick={() => onFaults([...faults, freshFault(destinations[0]!.id, seconds || 60)])}>
          <Plus size={13} /> Add a fault
        </Button>
        {destinations.length === 0 && (
          <span className="ml-2 text-muted">Choose publications first: faults are made on the links to their destinations.</span>
        )}
      </div>
    </div>
  )
}
