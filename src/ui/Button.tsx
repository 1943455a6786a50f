import type { ButtonHTMLAttributes, ReactNode } from 'react'

interface Props extends ButtonHTMLAttributes<HTMLButtonElement> {
  kind?: 'main' | 'plain' | 'quiet' | 'danger'
  small?: boolean
  busy?: boolean
  children: ReactNode
}

const looks = {
  main: 'bg-clay text-clay-ink border-clay font-semibold hover:brightness-110',
  plain: 'bg-sheet border-line hover:border-muted',
  quiet: 'border-transparent text-slate hover:bg-wash',
  danger: 'border-bad text-bad bg-sheet hover:bg-bad-wash',
}

export function Button({ kind = 'plain', small, busy, className = '', disabled, children, ...rest }: Props) {
  return (
    <button
      type="button"
      {...rest}
      disabled={disabled || busy}
      aria-busy={busy}
      className={`inline-flex items-center justify-center gap-1.5 whitespace-nowrap rounded-sm border ${small ? 'h-6 px-2 text-xs' : 'h-[27px] px-3'} ${looks[kind]} disabled:opacity-45 ${className}`}
    >
      {busy && <Spinner />}
      {children}
    </button>
  )
}

/** Something is under way: three bricks that take turns. */
export function Spinner() {
  return (
    <svg viewBox="0 0 16 5" width="16" height="5" aria-hidden="true" className="fill-current">
      {[0, 6, 12].map((x, i) => (
        <rect key={x} x={x} y="0" width="4" height="5" rx="0.5" opacity="0.25">
          <animate attributeName="opacity" values="0.25;1;0.25" dur="0.9s" begin={`${i * 0.2}s`} repeatCount="indefinite" />
        </rect>
      ))}
    </svg>
  )
}
