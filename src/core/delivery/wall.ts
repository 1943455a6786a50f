import type { Brick } from '~/contract/live'
import { type Tally, verdicts } from './verdict'

export type BrickState =
  | 'empty'
  | 'confirmed'
  | 'waiting'
  | 'unseen'
  | 'unwatched'
  | 'late'
  | 'disordered'
  | 'doubled'
  | 'altered'
  | 'foreign'
  | 'unknown'
  | 'rejected'
  | 'dropped'
  | 'missing'

/** The worst first. */
const gravity = ['missing', 'dropped', 'rejected', 'altered', 'foreign', 'unknown', 'doubled', 'disordered', 'late'] as const

/** Messages of a brick that have no verdict yet. */
export function brickWaiting(b: Brick): number {
  return b.produced - verdicts.reduce((sum, v) => sum + b[v], 0)
}

/** What a brick shows: the worst of what happened in it. `witness`: whether one reads the far end, and whether it is there. */
export function brickState(b: Brick, witness: 'none' | 'away' | 'there' = 'there'): BrickState {
  if (b.produced === 0 && b.foreign === 0) return 'empty'
  for (const v of gravity) {
    if (b[v] === 0) continue
    if (v === 'unknown' && witness === 'none') return 'unwatched'
    return v
  }
  if (brickWaiting(b) > 0) return witness === 'away' ? 'unseen' : 'waiting'
  return 'confirmed'
}

/** Slices summed to bricks of `sliceMs`, in order of time; the same sum as the database makes. */
export function layBricks(slices: Iterable<Tally & { start: number; produced: number; foreign: number }>, sliceMs: number): Brick[] {
  const bricks = new Map<number, Brick>()
  for (const s of slices) {
    const start = Math.floor(s.start / sliceMs) * sliceMs
    const b = bricks.get(start)
    if (!b) {
      const { produced, foreign } = s
      const tally = Object.fromEntries(verdicts.map((v) => [v, s[v]])) as Tally
      bricks.set(start, { start, produced, ...tally, foreign })
      continue
    }
    b.produced += s.produced
    b.foreign += s.foreign
    for (const v of verdicts) b[v] += s[v]
  }
  return [...bricks.values()].sort((a, b) => a.start - b.start)
}
