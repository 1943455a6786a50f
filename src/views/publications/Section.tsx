import { ChevronDown, ChevronUp } from 'lucide-react'
import type { ReactNode } from 'react'
import type { Finding } from '~/contract/publication'
import { Glyph } from '~/ui/Glyph'

/** One part of the sentence: its plain summary, and under it, opened, what can be changed. */
export function Section({
  title,
  summary,
  findings,
  error,
  open,
  onToggle,
  onMend,
  children,
}: {
  title: string
  summary: ReactNode
  findings: readonly Finding[]
  error?: string | undefined
  open: boolean
  onToggle(): void
  /** Changes the draft so that a finding goes. */
  onMend?: ((set: Record<string, unknown>) => void) | undefined
  children: ReactNode
}) {
  return (
    <section className="rounded-sm border border-line bg-sheet" aria-label={title}>
      <button type="button" onClick={onToggle} aria-expanded={open} className="flex w-full items-center gap-3 px-3 py-[7px] text-left">
        <span className="w-[60px] shrink-0 font-semibold text-clay">{title}</span>
        <span className="min-w-0 flex-1 truncate">{summary}</span>
        <span className="text-muted">{open ? <ChevronUp size={14} /> : <ChevronDown size={14} />}</span>
      </button>
      {(error || findings.length > 0) && (
        <ul className="px-3 pb-1.5 pl-[84px]">
          {error && <li className="text-bad">{error}</li>}
          {findings.map((f) => (
            <li key={f.message} className="flex items-start gap-2 text-[13px]">
              <span className="pt-px">
                <Glyph state={f.severity === 'stops' ? 'bad' : 'uncertain'} />
              </span>
              <span>
                {f.message}. <span className="text-muted">{f.hint}</span> <MendLink finding={f} onMend={onMend} />
              </span>
            </li>
          ))}
        </ul>
      )}
      {open && <div className="border-t border-line px-3 py-2.5">{children}</div>}
    </section>
  )
}

/** What mends a finding: a press, or the way to where it is mended. */
export function MendLink({ finding: { mend }, onMend }: { finding: Finding; onMend?: ((set: Record<string, unknown>) => void) | undefined }) {
  if (mend?.set && onMend)
    return (
      <button type="button" className="text-slate underline" onClick={() => onMend(mend.set!)}>
        {mend.label}
      </button>
    )
  if (mend?.href)
    return (
      <a className="text-slate underline" href={mend.href}>
        {mend.label}
      </a>
    )
  return null
}
