import { expect, it } from 'vitest'
import { emptyTally } from './verdict'
import { brickState, brickWaiting } from './wall'

const brick = (part: object) => ({ start: 0, produced: 10, foreign: 0, ...emptyTally(), ...part })

it.each([
  [{ produced: 0 }, 'empty'],
  [{ confirmed: 10 }, 'confirmed'],
  [{ confirmed: 9 }, 'waiting'],
  [{ confirmed: 9, late: 1 }, 'late'],
  [{ confirmed: 8, late: 1 }, 'late'],
  [{ confirmed: 8, late: 1, disordered: 1 }, 'disordered'],
  [{ confirmed: 8, late: 1, doubled: 1 }, 'doubled'],
  [{ confirmed: 9, unknown: 1 }, 'unknown'],
  [{ confirmed: 10, foreign: 1 }, 'foreign'],
  [{ produced: 0, foreign: 1 }, 'foreign'],
  [{ confirmed: 8, altered: 1, doubled: 1 }, 'altered'],
  [{ confirmed: 9, rejected: 1 }, 'rejected'],
  [{ confirmed: 9, dropped: 1 }, 'dropped'],
  [{ missing: 1, confirmed: 4, doubled: 3, late: 2 }, 'missing'],
] as const)('a brick of %j shows %s', (part, state) => {
  expect(brickState(brick(part))).toBe(state)
})

it('says that nobody looks, where nobody does', () => {
  expect(brickState(brick({ confirmed: 9 }), 'away')).toBe('unseen')
  expect(brickState(brick({ confirmed: 10 }), 'away')).toBe('confirmed')
  expect(brickState(brick({ unknown: 10 }), 'none')).toBe('unwatched')
})

it('waits for what has no verdict', () => {
  expect(brickWaiting(brick({ confirmed: 3, missing: 2, altered: 1 }))).toBe(4)
})
