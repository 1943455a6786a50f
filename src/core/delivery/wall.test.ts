import { expect, it } from 'vitest'
import { emptyTally } from './verdict'
import { brickParts, brickState, brickWaiting, fatesOn, layParts } from './wall'

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

it('has a part for each verdict, the worst first, with how many have it', () => {
  expect(brickParts(brick({ produced: 69, confirmed: 60, missing: 3, late: 4 }))).toEqual([
    { state: 'missing', count: 3 },
    { state: 'late', count: 4 },
    { state: 'waiting', count: 2 },
    { state: 'confirmed', count: 60 },
  ])
  expect(brickParts(brick({ confirmed: 4 }), 'away')).toEqual([
    { state: 'unseen', count: 6 },
    { state: 'confirmed', count: 4 },
  ])
  expect(brickParts(brick({ produced: 0 }))).toEqual([])
})

it('lays parts by their share, none too small to be seen, and all of them fill it', () => {
  const laid = layParts([
    { state: 'missing', count: 1 },
    { state: 'late', count: 1_000_000 },
    { state: 'confirmed', count: 3_000_000 },
  ])
  expect(laid.map((p) => p.state)).toEqual(['missing', 'late', 'confirmed'])
  expect(laid[0]!.height).toBeCloseTo(0.2)
  expect(laid.reduce((n, p) => n + p.height, 0)).toBeCloseTo(1)
  for (const [i, p] of laid.entries()) expect(p.from).toBeCloseTo(laid.slice(0, i).reduce((n, q) => n + q.height, 0))
  expect(layParts([{ state: 'confirmed', count: 7 }])).toEqual([{ state: 'confirmed', from: 0, height: 1 }])
  expect(layParts([])).toEqual([])
  // More kinds than there is room for: each the same.
  const many = (['missing', 'dropped', 'rejected', 'altered', 'doubled', 'late'] as const).map((state) => ({ state, count: 1 }))
  for (const p of layParts(many)) expect(p.height).toBeCloseTo(1 / 6)
})

it('says what became of the messages on it, from when to when, the worst first', () => {
  const rows = [
    {
      witness: 'there' as const,
      bricks: [
        brick({ start: 1000, confirmed: 8, missing: 2 }),
        brick({ start: 3000, confirmed: 9, missing: 1 }),
        brick({ start: 4000, confirmed: 10 }),
      ],
    },
    { witness: 'none' as const, bricks: [brick({ start: 2000, unknown: 10 })] },
    { witness: 'there' as const, bricks: [brick({ start: 0, confirmed: 5, doubled: 5 })] },
  ]
  expect(fatesOn(rows, 1000)).toEqual([
    { state: 'missing', count: 3, from: 1000, to: 4000 },
    { state: 'doubled', count: 5, from: 0, to: 1000 },
    { state: 'unwatched', count: 10, from: 2000, to: 3000 },
  ])
  expect(fatesOn([], 1000)).toEqual([])
})
