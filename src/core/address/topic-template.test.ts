import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { topicLevel } from './template'
import { topicFindings } from './topic-check'
import { matches } from './topic-filter'
import { type AddressOf, addressWriter, filterOf, levelBy, placeText, resolveTemplate, templateProblems, topicRules } from './topic-template'
import { topicTree } from './topic-tree'

const at = (name: string, level: AddressOf['lineage'][number]['level'], alias = '') => ({
  name,
  level,
  alias,
  facts: { serial: 'VK-7/3', line: 2 },
  externalIds: { stockroom: 'AX 9' },
})
const chain = [
  at('Varnmoor', 'enterprise'),
  at('Lower Pit', 'site'),
  at('Firing', 'area'),
  at('Tunnel Kiln 1', 'work centre'),
  at('Zone 7', 'work unit'),
]
const of: AddressOf = {
  lineage: chain,
  className: 'Kiln Zone',
  member: 'zones.3.temperature',
  tag: 'Zone 7/gas flow',
  members: ['order', 'temperature'],
}
const topic = (template: string, rule: Parameters<typeof resolveTemplate>[2] = 'slug', what = of) => resolveTemplate(template, what, rule)

describe('a topic template', () => {
  it.each([
    ['{enterprise}/{site}/{area}/{centre}/{unit}/state', 'varnmoor/lower-pit/firing/tunnel-kiln-1/zone-7/state'],
    ['x/{class}/{name}', 'x/kiln-zone/zone-7'],
    ['{path}', 'varnmoor/lower-pit/firing/tunnel-kiln-1/zone-7'],
    ['{tag}', 'zone-7/gas-flow'],
    ['{unit}/{member}', 'zone-7/zones/3/temperature'],
    ['{fact.serial}/{external.stockroom}', 'vk-7-3/ax-9'],
    ["{site|replace(' ', '_')}/{unit|number|pad(3)}", 'Lower_Pit/007'],
    ["{site|lower}/{fact.none|default('none')}", 'lower pit/none'],
  ])('%s is %s', (template, out) => expect(topic(template)).toMatchObject({ resolved: out, missing: null }))

  it('makes levels by the rule that is chosen, and tells which names read otherwise', () => {
    expect(Object.keys(topicRules).map((rule) => topic('{site}/{tag}', rule as 'slug').resolved)).toEqual([
      'lower-pit/zone-7/gas-flow',
      'Lower-Pit/Zone-7/gas-flow',
      'Lower_Pit/Zone_7/gas_flow',
      'Lower Pit/Zone 7/gas flow',
    ])
    expect(topic('{site}/{site}').converted).toContainEqual(['Lower Pit', 'lower-pit'])
    expect(topic('{class}', null).resolved).toBe('Kiln Zone')
  })

  it('takes the alias for the name outside', () => {
    expect(topic('{name}', 'slug', { ...of, lineage: [at('Zone 7', 'work unit', 'Burner hall')] }).resolved).toBe('burner-hall')
  })

  it('says which placeholder has nothing to stand for', () => {
    expect(topic('{site}/{unit}', 'slug', { ...of, lineage: chain.slice(0, 4) }).missing).toBe('unit')
    expect(topic('{class}', 'slug', { ...of, className: null }).missing).toBe('class')
    expect(topic('{value.gone}').missing).toBe('value.gone')
  })

  it('waits for values and times of the message, and its filter covers whatever they become', () => {
    const { resolved, steering } = topic('{site}/{value.order}/x{time.year}-{time.month}/end')
    expect(steering).toEqual([0])
    expect(filterOf(resolved)).toBe('lower-pit/+/+/end')
    expect(placeText(resolved, of.members)).toBe('lower-pit/{value.order}/x{time.year}-{time.month}/end')
    const write = addressWriter(resolved)
    if (typeof write === 'string') throw new Error('it should wait')
    expect(write(() => 'WO 12/4', Date.UTC(2026, 2, 4))).toBe('lower-pit/wo-12-4/x2026-03/end')
    expect(write(() => 'x'.repeat(100_000), 0).length).toBeLessThan(300)
    expect(write(() => null, Date.UTC(2026, 11, 4))).toBe('lower-pit/none/x2026-12/end')
    fc.assert(
      fc.property(fc.string({ unit: 'grapheme' }), fc.integer({ min: 0, max: 4e12 }), (value, when) => {
        expect(
          matches(
            filterOf(resolved),
            write(() => value, when),
          ),
        ).toBe(true)
      }),
    )
  })

  it.each([
    ['{place}/x', '{place} is not known'],
    ['a/{site', 'A lone {'],
    ['a//b', 'An empty level'],
    ['/a', 'An empty level'],
    ['a/+/b', '+ is a wildcard'],
    ['a/#', '# is a wildcard'],
    ['$SYS/a', 'begin with $'],
    ['a/\u0001', 'Control characters'],
    ['{site|shout}', 'shout is no filter'],
    ['{site|pad}', 'pad takes 1 argument'],
    ['{time.week}', '{time.week} is not known'],
  ])('%j is refused: %s', (template, words) => {
    expect(
      templateProblems(template)
        .map((p) => p.message)
        .join(),
    ).toContain(words)
  })

  it('has no problems when it is right', () => {
    expect(templateProblems('{enterprise}/{site}/x_1/{unit}.state')).toEqual([])
    expect(templateProblems("{site|replace('+', '/')}/{value.order}")).toEqual([])
  })
})

describe('topics that would be written', () => {
  it.each([
    [['a', 'a/b+c'], 'stops', 'wildcard'],
    [['x'.repeat(65_536)], 'stops', '65,535'],
    [['$a'], 'stops', 'belongs to the broker'],
    [['a\u0000b'], 'stops', 'Control characters'],
    [['Kiln/a', 'kiln/A'], 'warns', 'only in the case'],
    [['öfen/1'], 'warns', 'Not ASCII'],
    [['a/'], 'warns', 'empty level'],
  ])('%j: %s, %s', (topics, severity, words) => {
    expect(
      topicFindings(topics as string[])
        .flatMap((f) => [f.severity, f.message])
        .join(' '),
    ).toMatch(new RegExp(`${severity}.*${words}`))
  })
  it('say nothing when they are right', () => expect(topicFindings(['a/b', 'a/c'])).toEqual([]))

  it('stand as a tree with counts, wide levels cut', () => {
    const rates: Record<string, number> = { 'a/b/c': 2, 'a/e': 0.5 }
    expect(topicTree(['a/b/c', 'a/b/d', 'a/e'], (t) => rates[t] ?? null)).toEqual([
      {
        level: 'a',
        count: 3,
        rate: 2.5,
        children: [
          {
            level: 'b',
            count: 2,
            rate: 2,
            children: [
              { level: 'c', count: 1, rate: 2, children: [] },
              { level: 'd', count: 1, rate: null, children: [] },
            ],
          },
          { level: 'e', count: 1, rate: 0.5, children: [] },
        ],
      },
    ])
    const wide = topicTree(Array.from({ length: 100 }, (_, i) => `a/${i}`))[0]!.children
    expect(wide).toHaveLength(41)
    expect(wide.at(-1)).toEqual({ level: 'and 60 more', count: 60, rate: null, children: [] })
  })
})

describe('a name as a topic level', () => {
  it.each([
    ['Lower Pit', 'lower-pit'],
    ['Kiln #3 / north', 'kiln-3-north'],
    ['Öfen+Trockner', 'ofen-trockner'],
    ['  --  ', ''],
    ['Temp_2.raw', 'temp_2.raw'],
  ])('%j is %j', (name, out) => expect(topicLevel(name)).toBe(out))

  it('never holds a separator or a wildcard, whatever the rule', () => {
    fc.assert(
      fc.property(
        fc.string({ unit: 'grapheme' }),
        fc.constantFrom('slug' as const, 'dashes' as const, 'underscores' as const, 'as-is' as const),
        (name, rule) => {
          expect(levelBy(rule, name)).not.toMatch(/[/+#\p{Cc}]/u)
          expect(topicLevel(name)).not.toMatch(/[/+#\s\p{Cc}]/u)
        },
      ),
    )
  })
})
