import { expect, it } from 'vitest'
import { recentOf, type SliceFate } from './recent'

const none = { confirmed: 0, late: 0, disordered: 0, doubled: 0, altered: 0, missing: 0, dropped: 0, rejected: 0, unknown: 0 }
/** One slice of ten messages after the other. */
const slices = (...all: Partial<SliceFate>[]) => all.map((s, i) => ({ ...none, start: i * 10_000, produced: 10, ...s }))
const good = { confirmed: 10 }
const bad = { confirmed: 4, missing: 6 }

it('sums what there is, and knows since when something is wrong', () => {
  expect(recentOf(slices(good, bad, { confirmed: 3 }), 5)).toMatchObject({
    since: 5,
    produced: 30,
    confirmed: 17,
    missing: 6,
    wrongSince: 10_000,
    arrivedAt: 20_000,
  })
  expect(recentOf([], 0)).toMatchObject({ produced: 0, wrongSince: null, arrivedAt: null, over: false })
})

it.each<[string, Partial<SliceFate>[], boolean]>([
  ['nothing was wrong', [good, good, good], false],
  ['two good slices are too few', [bad, good, good], false],
  ['three say that it is over', [bad, good, good, good], true],
  ['what has no verdict yet says nothing', [bad, good, good, good, { confirmed: 2 }], true],
  ['nor does a slice in which nothing was made', [bad, good, good, { produced: 0 }, good], true],
  ['it goes wrong again', [bad, good, good, good, bad], false],
  ['what went aside or was dropped is wrong too', [{ rejected: 10 }, good, good, { dropped: 1, confirmed: 9 }], false],
])('%s', (_, all, over) => expect(recentOf(slices(...all), 0).over).toBe(over))
