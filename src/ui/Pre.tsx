import type { HTMLAttributes, ReactNode } from 'react'

/** Text as it is, with a scroll bar of its own that the keyboard reaches too. `label` says what stands there. */
export function Pre({ label, className = '', children, ...rest }: { label: string; children: ReactNode } & HTMLAttributes<HTMLPreElement>) {
  return (
    // biome-ignore lint/a11y/noNoninteractiveTabindex: what scrolls must be reached by keyboard (WCAG 2.1.1)
    <pre {...rest} role="group" aria-label={label} tabIndex={0} className={`overflow-auto rounded-sm border border-line font-mono ${className}`}>
      {children}
    </pre>
  )
}
