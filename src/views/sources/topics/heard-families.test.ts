import { describe, expect, it } from 'vitest'
import type { HeardTopic } from '~/contract/sources/mqtt'
import { familyOfTopic, heardFamilies, leafName, levelText, roleOf } from './heard-families'
import { matrixOf } from './matrix'

const heard = (topic: string, leaves: Record<string, string>, format: HeardTopic['format'] = 'json'): HeardTopic => ({
  topic,
  count: 3,
  rate: 0.5,
  bytes: 100,
  sample: '{}',
  format,
  retained: false,
  leaves: Object.entries(leaves).map(([name, value]) => ({
    address: name === '' ? topic : `${topic}#/${name}`,
    name,
    value,
    dataType: 'number',
  })),
})
const probes = [1, 2, 3].map((n) => heard(`probes/clay-prep/${n}`, { moisture: `${n}`, 'clay/temperature': '14', at: '2026-01-01' }))
const cells = ['stacker', 'robot'].flatMap((machine) =>
  ['rate', 'state'].map((signal) => heard(`cells/${machine}/${signal}`, { '': `${machine} ${signal}` }, 'number')),
)

describe('what was heard, as families', () => {
  it('sums up what its topics carry, how often and how large', () => {
    const [first, second] = heardFamilies([...probes, ...cells])
    expect(first).toMatchObject({ carries: 'bare', rate: 2, bytes: 100 })
    expect(second).toMatchObject({ carries: 'json', rate: 1.5, leaves: ['moisture', 'clay/temperature', 'at'] })
  })
  it('births and data of one node are not one family', () =>
    expect(
      heardFamilies(['NBIRTH', 'NDATA'].map((kind) => heard(`spBv1.0/works/${kind}/edge`, { 'kiln/temp': '1' }, 'sparkplug'))).map(
        (f) => f.topics.length,
      ),
    ).toEqual([1, 1]))
  it('the filter looks at topics and at names within', () => {
    expect(heardFamilies([...probes, ...cells], 'moisture').map((f) => f.topics.length)).toEqual([3])
    expect(heardFamilies([...probes, ...cells], 'robot/').map((f) => f.topics.length)).toEqual([2])
  })
  it.each([
    ['beside the value', { timeField: 'at', qualityField: 'q' }, 'at', 'time'],
    ['beside a value further down', { timeField: 'at', qualityField: 'q' }, 'clay/q', 'quality'],
    ['from the top', { timeField: '/meta/at', qualityField: '' }, 'meta/at', 'time'],
    ['elsewhere', { timeField: '/meta/at', qualityField: '' }, 'clay/at', null],
    ['nowhere', { timeField: '', qualityField: '' }, '', null],
  ])('time and quality are told by the settings: %s', (_what, settings, name, role) => expect(roleOf(name, settings)).toBe(role))
  it('a family stays known by a topic while more of it is heard and its pattern grows', () => {
    const before = heardFamilies(probes.slice(2))
    const after = heardFamilies([probes[2]!, probes[0]!, probes[1]!])
    expect([before[0]!.first, after[0]!.first]).toEqual([probes[2]!.topic, probes[2]!.topic])
    expect(familyOfTopic(after, probes[2]!.topic)!.id).not.toBe(before[0]!.id)
    expect(familyOfTopic(after, probes[2]!.topic)!.topics.length).toBe(3)
    expect([familyOfTopic(after, 'probes/9'), familyOfTopic(after, null)]).toEqual([null, null])
  })
  it('a level that varies says its names, or from where to where', () => {
    expect(levelText({ names: ['1', '2', '3'] })).toBe('1  2  3')
    expect(levelText({ names: Array.from({ length: 12 }, (_, i) => `zone-${i + 1}`) })).toBe('zone-1 to zone-12')
    expect(levelText({ names: ['stacker', 'palletiser', 'wrapper', 'robot'] })).toBe('4 names')
    expect(levelText({ name: '' })).toBe('(empty)')
  })
})

describe('a family as a table', () => {
  it('has a row a leaf and a column a topic', () => {
    const matrix = matrixOf(heardFamilies(probes)[0]!)
    expect(matrix.columns.map((c) => c.label)).toEqual(['1', '2', '3'])
    expect(matrix.rows.map((r) => [r.label, ...r.cells.map((c) => c && leafName(c))])).toContainEqual([
      'moisture',
      'moisture',
      'moisture',
      'moisture',
    ])
  })
  it('of bare values the last level that varies makes the rows; what is not there is empty', () => {
    const matrix = matrixOf(heardFamilies(cells.slice(0, 3))[0]!)
    expect(matrix.columns.map((c) => c.label)).toEqual(['robot', 'stacker'])
    expect(matrix.rows.map((r) => [r.label, ...r.cells.map((c) => c?.value ?? null)])).toEqual([
      ['rate', 'robot rate', 'stacker rate'],
      ['state', null, 'stacker state'],
    ])
  })
  it('a single topic is a family of one column', () =>
    expect(matrixOf(heardFamilies([heard('a/b', { x: '1' })])[0]!)).toMatchObject({
      columns: [{ label: 'b', topic: 'a/b' }],
      rows: [{ label: 'x' }],
    }))
})
