import { ChevronDown, ChevronRight } from 'lucide-react'
import { type ReactNode, useId, useState } from 'react'

/** A group of a form that few need: its name until somebody opens it, or something in it is other than usual, or wrong. */
export function FoldedGroup({ name, unusual, wrong, children }: { name: string; unusual: boolean; wrong: boolean; children: ReactNode }) {
  const [chosen, setChosen] = useState<boolean | null>(null)
  const id = useId()
  const open = wrong || (chosen ?? unusual)
  return (
    <section aria-label={name} className="mt-3">
      <button
        type="button"
        aria-expanded={open}
        aria-controls={id}
        onClick={() => setChosen(!open)}
        className="flex w-full items-center gap-1 py-0.5 text-xs font-semibold text-muted hover:text-ink"
      >
        {open ? <ChevronDown size={13} /> : <ChevronRight size={13} />}
        {name}
        {!open && <span className="font-normal">as usual</span>}
      </button>
      <div id={id}>{open && children}</div>
    </section>
  )
}
