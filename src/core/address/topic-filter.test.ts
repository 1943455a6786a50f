import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { disjoint, matches, overlap, validFilter, widen } from './topic-filter'

const level = fc.constantFrom('a', 'b', 'c')
const topic = fc.array(level, { minLength: 1, maxLength: 4 }).map((l) => l.join('/'))
const filter = fc
  .tuple(fc.array(fc.constantFrom('a', 'b', '+'), { minLength: 1, maxLength: 4 }), fc.boolean())
  .map(([levels, open]) => (open ? [...levels, '#'] : levels).join('/'))
/** Every topic of up to five levels over three names. */
const allTopics = (() => {
  const out: string[] = []
  const grow = (prefix: string[]) => {
    if (prefix.length > 0) out.push(prefix.join('/'))
    if (prefix.length < 5) for (const l of ['a', 'b', 'c']) grow([...prefix, l])
  }
  grow([])
  return out
})()

describe('matching', () => {
  it.each([
    ['sport/tennis/player1/#', 'sport/tennis/player1', true],
    ['sport/tennis/player1/#', 'sport/tennis/player1/score/x', true],
    ['sport/tennis/+', 'sport/tennis/player1/ranking', false],
    ['sport/+', 'sport', false],
    ['sport/+', 'sport/', true],
    ['+/+', '/finance', true],
    ['#', '$SYS/x', false],
    ['+/monitor', '$SYS/monitor', false],
    ['$SYS/#', '$SYS/x', true],
  ])('%s and %s: %s', (f, t, expected) => expect(matches(f, t)).toBe(expected))

  it.each([
    ['a/#/b', false],
    ['a+', false],
    ['a#', false],
    ['', false],
    ['#', true],
    ['+/a/#', true],
  ])('the filter %s is valid: %s', (f, expected) => expect(validFilter(f)).toBe(expected))
})

it('two filters overlap exactly when some topic matches both', () => {
  fc.assert(
    fc.property(filter, filter, (a, b) => {
      expect(overlap(a, b)).toBe(allTopics.some((t) => matches(a, t) && matches(b, t)))
    }),
  )
})

it('the widened filter covers both', () => {
  fc.assert(
    fc.property(filter, filter, topic, (a, b, t) => {
      if (matches(a, t) || matches(b, t)) expect(matches(widen(a, b), t)).toBe(true)
    }),
  )
})

it('disjoint filters cover all that the given ones cover, and no topic twice', () => {
  fc.assert(
    fc.property(fc.array(filter, { maxLength: 6 }), (filters) => {
      const out = disjoint(filters)
      for (const t of allTopics) {
        const hits = out.filter((f) => matches(f, t)).length
        expect(hits).toBeLessThanOrEqual(1)
        if (filters.some((f) => matches(f, t))) expect(hits).toBe(1)
      }
    }),
  )
})

it('leaves filters alone that do not overlap', () => {
  expect(disjoint(['x/+/state', 'x/state', 'y/#'])).toEqual(['x/+/state', 'x/state', 'y/#'])
})
