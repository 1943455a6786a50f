import { useMemo } from 'react'
import type { Wall } from '~/contract/live'
import { fatesOn } from '~/core/delivery/wall'
import type { Course } from '../Wall'
import { wallSentence } from './words'

/** What is shown, in one sentence. */
export function Sentence({
  lines,
  wall,
  from,
  sliceMs,
  now,
}: {
  lines: readonly Course[]
  wall: Wall | null
  from: number
  sliceMs: number
  now: number
}) {
  const { produced, fates } = useMemo(() => {
    const witness = new Map(lines.map((l) => [l.delivery, l.witness]))
    const rows = (wall?.rows ?? []).map((r) => ({ bricks: r.bricks, witness: witness.get(r.delivery) ?? ('there' as const) }))
    return { produced: rows.reduce((n, r) => n + r.bricks.reduce((m, b) => m + b.produced, 0), 0), fates: fatesOn(rows, sliceMs) }
  }, [lines, wall, sliceMs])
  if (!wall) return null
  const { text, lost } = wallSentence(produced, fates, from, now)
  return (
    <p className={`mb-2 font-semibold ${lost ? 'text-bad' : ''}`} role="status" aria-label="In one sentence">
      {text}.
    </p>
  )
}
