/** What is known of the whole plant; each is asked for by who shows it. */
export const parts = ['sources', 'publications', 'destinations', 'ledger'] as const
export type Part = (typeof parts)[number]

/** What one part of a page, or one page, watches. */
export interface Want {
  tags?: readonly number[]
  sparks?: boolean
  parts?: readonly Part[]
  messages?: readonly string[]
}

/** `[1,2,3,7]` is `1-3,7`. */
export function ranges(handles: Iterable<number>): string {
  const sorted = [...new Set(handles)].sort((a, b) => a - b)
  const out: string[] = []
  for (let i = 0; i < sorted.length; ) {
    let end = i
    while (sorted[end + 1] === sorted[end]! + 1) end++
    out.push(end > i ? `${sorted[i]}-${sorted[end]}` : `${sorted[i]}`)
    i = end + 1
  }
  return out.join(',')
}

/** All that several want, each thing once. */
export function together(wants: Iterable<Want>): Required<Want> {
  const all = [...wants]
  return {
    tags: [...new Set(all.flatMap((w) => [...(w.tags ?? [])]))],
    sparks: all.some((w) => w.sparks),
    parts: parts.filter((p) => all.some((w) => w.parts?.includes(p))),
    messages: [...new Set(all.flatMap((w) => [...(w.messages ?? [])]))].sort(),
  }
}

/** Where the stream of that is. */
export function streamOf(w: Required<Want>): string {
  const query = new URLSearchParams({
    tags: ranges(w.tags),
    parts: ['course', ...w.parts].join(','),
    messages: w.messages.join(','),
    spark: String(w.sparks),
  })
  return `/api/live?${query}`
}
