import { findingKey } from '~/contract/preflight'
import type { Finding } from '~/contract/publication'
import { Glyph } from '~/ui/Glyph'
import { MendLink } from '../Section'

/** Findings of one publication: what stops it first; each warning can be accepted by itself. */
export function FindingList({
  findings,
  accepted,
  onAccept,
  onMend,
}: {
  findings: readonly Finding[]
  accepted: ReadonlySet<string>
  onAccept(finding: Finding, yes: boolean): void
  onMend?: ((set: Record<string, unknown>) => void) | undefined
}) {
  const sorted = [...findings].sort((a, b) => (a.severity === b.severity ? 0 : a.severity === 'stops' ? -1 : 1))
  return (
    <ul className="grid gap-1">
      {sorted.map((f) => (
        <li key={findingKey(f)} className="grid grid-cols-[18px_64px_minmax(0,1fr)] items-start gap-x-2">
          {f.severity === 'stops' || f.told ? (
            <span className="pt-0.5">
              <Glyph state={f.severity === 'stops' ? 'bad' : 'uncertain'} title={f.severity === 'stops' ? 'stops it' : 'to be known'} />
            </span>
          ) : (
            <input
              type="checkbox"
              className="mt-1 accent-(--clay)"
              aria-label={`Accept: ${f.message}`}
              checked={accepted.has(findingKey(f))}
              onChange={(e) => onAccept(f, e.target.checked)}
            />
          )}
          <span className="font-semibold text-clay">{f.section}</span>
          <span>
            {f.message}. <span className="text-muted">{f.hint}</span> <MendLink finding={f} onMend={onMend} />
          </span>
        </li>
      ))}
    </ul>
  )
}
