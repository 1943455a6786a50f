import { expect, it } from 'vitest'
import { brickState } from './wall'

const brick = (part: object) => ({ start: 0, produced: 10, confirmed: 10, late: 0, missing: 0, doubled: 0, dropped: 0, ...part })

it.each([
  [{ produced: 0, confirmed: 0 }, 'empty'],
  [{}, 'confirmed'],
  [{ confirmed: 9 }, 'waiting'],
  [{ late: 1 }, 'late'],
  [{ late: 1, doubled: 1 }, 'doubled'],
  [{ dropped: 1, confirmed: 9 }, 'dropped'],
  [{ missing: 1, confirmed: 9, doubled: 3, late: 2 }, 'missing'],
] as const)('a brick of %j shows %s', (part, state) => {
  expect(brickState(brick(part))).toBe(state)
})

it('waits for nobody where there is no witness', () => {
  expect(brickState(brick({ confirmed: 0 }), false)).toBe('confirmed')
})
