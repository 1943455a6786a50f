import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { type FamilyTopic, topicFamilies } from './topic-families'

const bare = (...topics: string[]): FamilyTopic[] => topics.map((topic) => ({ topic, kind: 'bare', leaves: [''] }))
const json = (topic: string, ...leaves: string[]): FamilyTopic => ({ topic, kind: 'json', leaves })
const patterns = (topics: FamilyTopic[]) =>
  topicFamilies(topics).map((f) => `${f.levels.map((l) => ('name' in l ? l.name : `{${l.names.join(' ')}}`)).join('/')}: ${f.topics.length}`)

describe('families of topics', () => {
  it('numbered things with the same JSON are one, also when one of them says less', () =>
    expect(
      patterns([
        json('probes/clay-prep/1', 'moisture', 'battery', 'at'),
        json('probes/clay-prep/2', 'moisture', 'battery', 'at'),
        json('probes/clay-prep/10', 'battery', 'at'),
      ]),
    ).toEqual(['probes/clay-prep/{1 2 10}: 3']))
  it('machines with much the same signals are one family of two levels that vary', () =>
    expect(patterns(bare('cells/packing/robot/rate', 'cells/packing/robot/state', 'cells/packing/belt/rate', 'cells/packing/belt/load'))).toEqual([
      'cells/packing/{belt robot}/{load rate state}: 4',
    ]))
  it('a level after the one that varies stays', () =>
    expect(patterns([1, 2, 3].map((n) => json(`works/kiln/zone-${n}/state`, 'temperature')))).toEqual(['works/kiln/{zone-1 zone-2 zone-3}/state: 3']))
  it('what carries something else, or is laid out otherwise, is a family of its own', () =>
    expect(
      patterns([json('a/1', 'flow'), json('a/2', 'flow'), json('a/log', 'line', 'level'), ...bare('a/3'), ...bare('a/4'), ...bare('b/1/2')]),
    ).toEqual(['a/{1 2}: 2', 'a/{3 4}: 2', 'a/log: 1', 'b/1/2: 1']))
  it('branches that only look alike from afar are not mixed', () =>
    expect(patterns(bare('energy/meter/power', 'energy/meter/total', 'lab/oven/door', 'lab/oven/fan'))).toEqual([
      'energy/meter/{power total}: 2',
      'lab/oven/{door fan}: 2',
    ]))
  it('topics with empty levels, a leading slash or dollar keep them', () =>
    expect(patterns(bare('/a', '/b', '$x/y', 'p//q'))).toEqual(['/{a b}: 2', '$x/y: 1', 'p//q: 1']))
  it('each topic is in exactly one family that it fits, and families differ', () =>
    fc.assert(
      fc.property(
        fc.uniqueArray(
          fc.record({
            topic: fc.array(fc.constantFrom('a', 'b', 'x1', 'x2', '', '__proto__'), { minLength: 1, maxLength: 4 }).map((l) => l.join('/')),
            kind: fc.constantFrom('bare', 'json'),
            leaves: fc.subarray(['p', 'q', 'constructor']),
          }),
          { selector: (t) => t.topic, maxLength: 40 },
        ),
        (topics) => {
          const families = topicFamilies(topics)
          expect(families.flatMap((f) => f.topics.map((t) => t.topic)).sort()).toEqual(topics.map((t) => t.topic).sort())
          expect(new Set(families.map((f) => f.id)).size).toBe(families.length)
          for (const f of families)
            for (const t of f.topics) {
              const levels = t.topic.split('/')
              expect(levels.length).toBe(f.levels.length)
              expect(f.levels.every((l, i) => ('name' in l ? l.name === levels[i] : l.names.includes(levels[i]!)))).toBe(true)
              expect(t.leaves.every((leaf) => f.leaves.includes(leaf))).toBe(true)
            }
        },
      ),
    ))
  it('5,000 topics of one thing are looked through in one go', () => {
    const families = topicFamilies(bare(...Array.from({ length: 5000 }, (_, i) => `plant/line ${i % 50}/point ${i}`)))
    expect(families.map((f) => f.topics.length)).toEqual([5000])
  })
})
