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

/** One part of a brick: a state, and how many of its messages are in it. */
export interface BrickPart {
  state: BrickState
  count: number
}

/** What a brick holds, the worst first: how many of its messages each verdict has. `witness` as above. */
export function brickParts(b: Brick, witness: 'none' | 'away' | 'there' = 'there'): BrickPart[] {
  const parts: BrickPart[] = []
  for (const v of gravity) if (b[v] > 0) parts.push({ state: v === 'unknown' && witness === 'none' ? 'unwatched' : v, count: b[v] })
  const waiting = brickWaiting(b)
  if (waiting > 0) parts.push({ state: witness === 'away' ? 'unseen' : 'waiting', count: waiting })
  if (b.confirmed > 0) parts.push({ state: 'confirmed', count: b.confirmed })
  return parts
}

/** The least height that a part is drawn with, of a whole of 1: one message of a million is seen. */
const LEAST = 0.2

/** Parts as heights of a whole of 1, the worst on top: by their share, none less than can be seen. */
export function layParts(parts: readonly BrickPart[]): { state: BrickState; from: number; height: number }[] {
  const all = parts.reduce((sum, p) => sum + p.count, 0)
  if (all === 0) return []
  const wanted = parts.map((p) => Math.max(LEAST, p.count / all))
  const sum = wanted.reduce((a, b) => a + b, 0)
  // What the small ones were given goes off the large ones.
  const room = wanted.reduce((n, h) => n + Math.max(0, h - LEAST), 0)
  const over = sum - 1
  let from = 0
  return parts.map(({ state }, i) => {
    const height = room > 0 ? wanted[i]! - (Math.max(0, wanted[i]! - LEAST) / room) * over : 1 / parts.length
    const laid = { state, from, height }
    from += height
    return laid
  })
}

/** What became of messages on a wall, and in which slices, from the start of the first to the end of the last (epoch ms). */
export interface Fate {
  state: Exclude<BrickState, 'empty' | 'confirmed'>
  count: number
  from: number
  to: number
}

/** Everything on a wall that is not simply confirmed, the worst first. */
export function fatesOn(rows: readonly { bricks: readonly Brick[]; witness: 'none' | 'away' | 'there' }[], sliceMs: number): Fate[] {
  const fates = new Map<BrickState, Fate>()
  for (const { bricks, witness } of rows)
    for (const b of bricks)
      for (const { state, count } of brickParts(b, witness)) {
        if (state === 'confirmed' || state === 'empty') continue
        const f = fates.get(state)
        if (!f) fates.set(state, { state, count, from: b.start, to: b.start + sliceMs })
        else {
          f.count += count
          f.from = Math.min(f.from, b.start)
          f.to = Math.max(f.to, b.start + sliceMs)
        }
      }
  const order: readonly BrickState[] = [...gravity, 'unseen', 'unwatched', 'waiting']
  return [...fates.values()].sort((a, b) => order.indexOf(a.state) - order.indexOf(b.state))
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
