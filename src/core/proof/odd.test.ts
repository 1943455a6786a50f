import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { RangeSet } from '../delivery/ranges'
import { emptyStanding, type OddSet, oddSets, verdictOf } from '../delivery/verdict'
import { common, countOf, oddRuns, type Run, without } from './odd'

const members = (runs: readonly Run[]) => new Set(runs.flatMap(([first, last]) => Array.from({ length: last - first + 1 }, (_, i) => first + i)))
const runs = fc.uniqueArray(fc.integer({ min: 1, max: 60 }), { maxLength: 40 }).map((all): Run[] => {
  const set = new RangeSet()
  for (const n of all) set.add(n)
  return [...RangeSet.parse(set.toString())]
})

describe('runs', () => {
  it('have in common, and lack, what their members do', () => {
    fc.assert(
      fc.property(runs, runs, (a, b) => {
        const [x, y] = [members(a), members(b)]
        expect(members(common(a, b))).toEqual(new Set([...x].filter((n) => y.has(n))))
        expect(members(without(a, b))).toEqual(new Set([...x].filter((n) => !y.has(n))))
      }),
    )
  })

  it('are counted by their members', () =>
    expect(
      countOf([
        [1, 3],
        [7, 7],
      ]),
    ).toBe(4))
})

it('each message is listed once, under the verdict that it has', () => {
  fc.assert(
    fc.property(fc.array(fc.tuple(fc.integer({ min: 1, max: 50 }), fc.constantFrom<OddSet>(...oddSets)), { maxLength: 60 }), (marks) => {
      const standing = emptyStanding()
      standing.storedThrough = 50
      standing.known.append(1, 50)
      const lost = new Set<number>()
      for (const [seq, set] of marks) {
        // Of the lost ones a message is only one, and then it did not arrive.
        const isLost = ['missing', 'dropped', 'rejected', 'unknown'].includes(set)
        if (lost.has(seq) || (isLost && ['late', 'disordered', 'doubled', 'altered'].some((o) => standing.odd[o as OddSet].has(seq)))) continue
        if (isLost) lost.add(seq)
        standing.odd[set].add(seq)
      }
      const sets = Object.fromEntries(oddSets.map((s) => [s, [...standing.odd[s]]])) as unknown as Record<OddSet, Run[]>
      const found = oddRuns(sets, [[10, 40]])
      for (let seq = 1; seq <= 50; seq++) {
        const verdict = verdictOf(standing, seq)!
        const listed = [...found].filter(([, own]) => members(own).has(seq)).map(([v]) => v)
        expect(listed).toEqual(seq < 10 || seq > 40 || verdict === 'confirmed' ? [] : [verdict])
      }
    }),
  )
})
