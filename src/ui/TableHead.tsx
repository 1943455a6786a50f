import type { ReactNode } from 'react'

export interface HeadColumn {
  key: string
  head: ReactNode
  /** px, or what CSS takes. */
  width?: number | string
  right?: boolean
  middle?: boolean
  /** Only read out: what stands under it says by itself what it is. */
  quiet?: boolean
  /** Said when the pointer rests on it. */
  about?: string
}

/** The heads of a table: small, quiet, over a line; `sticky` stays on top of what scrolls under it. */
export function TableHead({ columns, sticky = false }: { columns: readonly HeadColumn[]; sticky?: boolean }) {
  return (
    <thead className={sticky ? 'sticky top-0 z-[1] bg-paper' : undefined}>
      <tr className="border-b border-line text-left font-sans text-xs text-muted">
        {columns.map((c) => (
          <th
            key={c.key}
            scope="col"
            style={{ width: c.width }}
            title={c.about}
            className={`px-2 py-1.5 font-semibold ${c.right ? 'text-right' : c.middle ? 'text-center' : ''}`}
          >
            {c.quiet ? <span className="sr-only">{c.head}</span> : c.head}
          </th>
        ))}
      </tr>
    </thead>
  )
}
