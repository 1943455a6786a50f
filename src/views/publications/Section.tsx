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
  children,
}: {
  title: string
  summary: ReactNode
  findings: readonly Finding[]
  error?: string | undefined
  open: boolean
  onToggle(): void
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
                {f.message}. <span className="text-muted">{f.hint}</span>
              </span>
            </li>
          ))}
        </ul>
      )}
      {open && <div className="border-t border-line px-3 py-2.5">{children}</div>}
    </section>
  )
}
