import type { Brick } from '~/contract/live'

export type BrickState = 'empty' | 'confirmed' | 'waiting' | 'late' | 'missing' | 'doubled' | 'dropped'

/** What a brick shows: the worst of what happened in it. */
export function brickState(b: Brick, witnessed = true): BrickState {
  if (b.produced === 0) return 'empty'
  if (b.missing > 0) return 'missing'
  if (b.dropped > 0) return 'dropped'
  if (b.doubled > 0) return 'doubled'
  if (b.late > 0) return 'late'
  return !witnessed || b.confirmed >= b.produced ? 'confirmed' : 'waiting'
}
