import fc from 'fast-check'
import { expect, it } from 'vitest'
import type { Scalar } from '../value/deadband'
import { isOfRows, placeOfRow, RowChanges, UNSURE } from './changes'
import type { ReadRow } from './read'

const columns = [
  { name: 'order', dataType: 'text' as const },
  { name: 'n', dataType: 'integer' as const },
]
const rowsOf = (rows: Record<string, Scalar[]>): Map<string, ReadRow> =>
  new Map(Object.entries(rows).map(([name, values]) => [name, { name, values, status: values.map(() => 0) }]))
const told = (changes: RowChanges, rows: Record<string, Scalar[]>, removed = true) => {
  const all = changes.of(rowsOf(rows), removed)
  for (const row of all) changes.note(row)
  return all.map(({ name, change, values }) => [name, change, ...values])
}

it('says what was added, changed and removed since it was told', () => {
  const changes = new RowChanges(columns)
  expect(told(changes, { a: ['WO-1', 1], b: ['WO-2', 9007199254740993n] })).toEqual([
    ['a', 'added', 'WO-1', 1],
    ['b', 'added', 'WO-2', 9007199254740993n],
  ])
  expect(told(changes, { a: ['WO-1', 1], b: ['WO-2', 9007199254740993n] })).toEqual([])
  expect(told(changes, { a: ['WO-1', 5], c: [null, 3] })).toEqual([
    ['a', 'changed', 'WO-1', 5],
    ['c', 'added', null, 3],
    ['b', 'removed', 'WO-2', 9007199254740993n],
  ])
  expect(told(changes, { a: ['WO-1', 5], b: ['WO-2', 9007199254740993n], c: [null, 3] })).toEqual([['b', 'added', 'WO-2', 9007199254740993n]])
})

it('says nothing of rows that are gone where nobody asked, and counts them as added when they come back', () => {
  const changes = new RowChanges(columns)
  told(changes, { a: ['x', 1] }, false)
  expect(told(changes, {}, false)).toEqual([])
  expect(told(changes, { a: ['x', 1] }, false)).toEqual([['a', 'added', 'x', 1]])
})

it('what was not noted is told again', () => {
  const changes = new RowChanges(columns)
  expect(changes.of(rowsOf({ a: ['x', 1] }), true)).toHaveLength(1)
  expect(changes.of(rowsOf({ a: ['x', 1] }), true)).toHaveLength(1)
})

it('what is taken for known is no news, and what was there before is known over a start', () => {
  const before = new RowChanges(columns)
  expect(before.memory().size).toBe(0)
  before.assume(rowsOf({ a: ['x', 1], b: ['y', 9007199254740993n] }))
  const after = new RowChanges(columns)
  after.remember(before.memory())
  expect(after.looked).toBe(true)
  expect(told(after, { a: ['x', 1], b: ['y', 3] })).toEqual([['b', 'changed', 'y', 3]])
  // That there were none is known too.
  const none = new RowChanges(columns)
  none.assume(new Map())
  expect([...none.memory().keys()].every(isOfRows)).toBe(true)
  const still = new RowChanges(columns)
  still.remember(none.memory())
  expect(still.looked).toBe(true)
})

it('of what is about to be told nobody knows what was told last, until it is noted', () => {
  const changes = new RowChanges(columns)
  told(changes, { a: ['x', 1], b: ['y', 2] })
  const later = changes.of(rowsOf({ a: ['x', 5], c: ['z', 3] }), true)
  changes.begin(later.map((r) => r.name))
  expect([...changes.memory()].filter(([, text]) => text === UNSURE).map(([place]) => place)).toEqual(['a', 'b', 'c'].map(placeOfRow))
  // Whoever goes on from there tells all of them anew, whatever they are by then.
  const after = new RowChanges(columns)
  after.remember(changes.memory())
  expect(told(after, { a: ['x', 1], b: ['y', 2] })).toEqual([
    ['a', 'changed', 'x', 1],
    ['b', 'changed', 'y', 2],
    ['c', 'removed'],
  ])
  for (const row of later) changes.note(row)
  expect([...changes.memory().values()]).not.toContain(UNSURE)
  // What needs not be told after all is known as it was.
  changes.begin(['a'])
  expect(changes.of(rowsOf({ a: ['x', 5], c: ['z', 3] }), true)).toEqual([])
  expect([...changes.memory().values()]).not.toContain(UNSURE)
})

it('with other columns each row is another one, once', () => {
  const before = new RowChanges(columns)
  told(before, { a: ['x', 1], b: ['y', 2] })
  const after = new RowChanges([...columns].reverse())
  after.remember(before.memory())
  expect(told(after, { a: [1, 'x'] })).toEqual([
    ['a', 'changed', 1, 'x'],
    ['b', 'removed'],
  ])
  expect(told(after, { a: [1, 'x'] })).toEqual([])
})

it('a receiver that does what it is told has all rows that there are, over starts too', () => {
  const value = fc.option(fc.oneof(fc.integer(), fc.string({ unit: 'binary' })), { nil: null })
  const state = fc.dictionary(fc.string({ unit: 'binary', maxLength: 5 }), fc.tuple(value, value), { maxKeys: 8 })
  fc.assert(
    fc.property(fc.array(fc.tuple(state, fc.boolean()), { maxLength: 6 }), (steps) => {
      let changes = new RowChanges(columns)
      const receiver = new Map<string, readonly Scalar[]>()
      for (const [rows, restarted] of steps) {
        if (restarted) {
          const next = new RowChanges(columns)
          next.remember(changes.memory())
          changes = next
        }
        for (const row of changes.of(rowsOf(rows), true)) {
          if (row.change === 'removed') receiver.delete(row.name)
          else receiver.set(row.name, row.values)
          changes.note(row)
        }
        expect(receiver).toEqual(new Map(Object.entries(rows)))
      }
    }),
  )
})
