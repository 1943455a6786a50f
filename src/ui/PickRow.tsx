import type { ReactNode } from 'react'

interface Props {
  picked: boolean
  onPick(): void
  /** Nothing stands behind it at the moment. */
  faint?: boolean
  title?: string
  children: ReactNode
}

/** One line of what can be picked at the left: the picked one has a mark and a wash. */
export function PickRow({ picked, onPick, faint = false, title, children }: Props) {
  const look = picked ? 'border-slate bg-wash' : 'border-transparent hover:bg-well'
  return (
    <li>
      <button
        type="button"
        aria-pressed={picked}
        onClick={onPick}
        title={title}
        className={`flex h-[25px] w-full items-center gap-2 border-l-2 px-2.5 text-left ${look} ${faint ? 'text-muted' : ''}`}
      >
        {children}
      </button>
    </li>
  )
}

/** Its figure at the right end. */
export function PickFigure({ children, title }: { children: ReactNode; title?: string }) {
  return (
    <span className="ml-auto shrink-0 font-mono text-[12px] text-muted" title={title}>
      {children}
    </span>
  )
}
