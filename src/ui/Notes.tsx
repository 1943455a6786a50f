import type { ReactNode } from 'react'
import { Glyph } from './Glyph'

export interface Problem {
  message: string
  hint: string
  code?: string
}

/** What went wrong and what to do about it. */
export function ProblemNote({ problem, action }: { problem: Problem; action?: ReactNode }) {
  return (
    <div role="alert" className="rounded-sm border border-bad/40 bg-bad-wash px-3 py-2">
      <div className="font-semibold text-bad">{problem.message}</div>
      {problem.hint && <div className="mt-0.5">{problem.hint}</div>}
      {action && <div className="mt-2">{action}</div>}
    </div>
  )
}

export function WarnNote({ children }: { children: ReactNode }) {
  return (
    <div className="flex items-start gap-2 rounded-sm border border-uncertain/40 bg-sheet px-3 py-1.5">
      <span className="pt-px">
        <Glyph state="uncertain" />
      </span>
      <div>{children}</div>
    </div>
  )
}

/** An empty screen: what comes next, and one button for it. */
export function Empty({ title, children, action }: { title: string; children?: ReactNode; action?: ReactNode }) {
  return (
    <div className="m-auto flex max-w-sm flex-col items-center gap-2 p-8 text-center">
      <svg viewBox="0 0 66 30" width="88" height="40" aria-hidden="true" className="fill-none stroke-line" strokeWidth="1.5" strokeDasharray="3 3">
        <rect x="1" y="1" width="30" height="12" rx="2" />
        <rect x="35" y="1" width="30" height="12" rx="2" />
        <rect x="18" y="17" width="30" height="12" rx="2" />
      </svg>
      <h2 className="text-[15px] font-semibold">{title}</h2>
      <div className="text-muted">{children}</div>
      {action && <div className="pt-1">{action}</div>}
    </div>
  )
}

/** Rows that are on their way. */
export function Loading({ rows = 6, label = 'Loading' }: { rows?: number; label?: string }) {
  return (
    <div className="animate-pulse p-3" role="status" aria-label={label}>
      {Array.from({ length: rows }, (_, i) => (
        // biome-ignore lint/suspicious/noArrayIndexKey: they never change places
        <div key={i} className="mb-[7px] h-[21px] rounded-sm bg-well" style={{ width: `${94 - ((i * 29) % 46)}%` }} />
      ))}
    </div>
  )
}

/** `level` 2: right under the name of the page; 3: under the name of something on it. */
export function Heading({ children, aside, level = 3 }: { children: ReactNode; aside?: ReactNode; level?: 2 | 3 }) {
  const H = `h${level}` as const
  return (
    <div className="mt-4 mb-1 flex items-baseline justify-between gap-2 first:mt-0">
      <H className="text-xs font-semibold text-muted">{children}</H>
      {aside}
    </div>
  )
}

/** Name on the left, value on the right, hairline under it. */
export function Fact({ name, children, mono = true }: { name: ReactNode; children: ReactNode; mono?: boolean }) {
  return (
    <div className="flex items-baseline justify-between gap-3 border-b border-line py-[5px] last:border-0">
      <span className="shrink-0 text-muted">{name}</span>
      <span className={`min-w-0 text-right break-words ${mono ? 'font-mono text-[12.5px]' : ''}`}>{children}</span>
    </div>
  )
}
