import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { topicLevel } from './template'
import { fillTemplate, templateProblems } from './topic-template'

const chain = [
  { name: 'Varnmoor', level: 'enterprise' as const },
  { name: 'Lower Pit', level: 'site' as const },
  { name: 'Firing', level: 'area' as const },
  { name: 'Tunnel Kiln 1', level: 'work centre' as const },
  { name: 'Zone 7', level: 'work unit' as const },
]

describe('a topic template', () => {
  it('is filled from the hierarchy', () => {
    expect(fillTemplate('{enterprise}/{site}/{area}/{centre}/{unit}/state', chain, 'Kiln Zone')).toEqual({
      topic: 'varnmoor/lower-pit/firing/tunnel-kiln-1/zone-7/state',
    })
    expect(fillTemplate('x/{class}/{name}', chain, 'Kiln Zone')).toEqual({ topic: 'x/kiln-zone/zone-7' })
  })

  it('says which placeholder has nothing to stand for', () => {
    expect(fillTemplate('{site}/{unit}', chain.slice(0, 4), null)).toEqual({ missing: 'unit' })
    expect(fillTemplate('{class}', chain, null)).toEqual({ missing: 'class' })
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
  ])('%j is refused: %s', (template, words) => {
    expect(
      templateProblems(template)
        .map((p) => p.message)
        .join(),
    ).toContain(words)
  })

  it('has no problems when it is right', () => {
    expect(templateProblems('{enterprise}/{site}/x_1/{unit}.state')).toEqual([])
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

  it('never holds a separator, a wildcard, a space or a control character', () => {
    fc.assert(
      fc.property(fc.string({ unit: 'grapheme' }), (name) => {
        expect(topicLevel(name)).not.toMatch(/[/+#\s\p{Cc}]/u)
      }),
    )
  })
})
