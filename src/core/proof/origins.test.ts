import { describe, expect, it } from 'vitest'
import type { Plan } from '~/contract/publication'
import { kiln, member, planOf } from '../shape/shape-samples'
import { carriersOf, mayBe, originsOf } from './origins'

const tag = (handle: number) => ({ kind: 'tag' as const, handle, width: 0, factor: 1, offset: 0 })
const members = [
  member('temp', 'number', { fill: tag(1), unit: '°C' }),
  member('mean', 'number', { fill: { kind: 'smooth', input: tag(2), inputType: 'number', seconds: 5 } }),
  member('share', 'number', {
    fill: {
      kind: 'expression',
      text: 'a / b',
      factor: 1,
      offset: 0,
      inputs: ['a', 'b'].map((name, i) => ({ name, dataType: 'number' as const, fill: tag(3 + i) })),
    },
  }),
  member('line', 'text', { fill: { kind: 'constant', value: 'B' } }),
]
const plan = (part: Partial<Plan> = {}): Plan => ({
  ...planOf({ kind: 'flat-json' }, [
    { ...kiln, name: 'Kiln 1', members },
    { ...kiln, name: 'Kiln 2', members },
  ]),
  ...part,
})

describe('which messages carry what is read', () => {
  it('those whose members it fills, beneath steps and in expressions too, by the places where they go', () => {
    const whole = plan()
    for (const [handle, label] of [
      [1, 'temp'],
      [2, 'mean'],
      [4, 'share'],
    ] as const)
      expect(carriersOf(whole, handle)).toEqual(whole.messages.map((m) => ({ place: m.place, members: m.equipment.map(() => label), shared: false })))
    expect(carriersOf(whole, 99)).toEqual([])
  })
  it('and which go where others go too, that do not', () => {
    const [first] = plan().messages
    const shared = plan({
      messages: [
        { ...first!, place: 'kiln' },
        { ...first!, equipment: [1], members: [3], place: 'kiln' },
      ],
    })
    expect(carriersOf(shared, 1)).toMatchObject([{ place: 'kiln', shared: true }])
  })
  it('not one that sends other members only', () => {
    const [first] = plan().messages
    const parted = plan({
      messages: [
        { ...first!, members: [1, 3] },
        { ...first!, members: [0], place: 'elsewhere' },
      ],
    })
    expect(carriersOf(parted, 1)).toEqual([{ place: 'elsewhere', members: first!.equipment.map(() => 'temp'), shared: false }])
  })
})

describe('from what a message was made', () => {
  it('tags, beneath what is done to them; expressions with all that they read; constants', () => {
    const { messages } = plan()
    const place = messages[0]!.place as string
    expect(typeof place).toBe('string')
    const [one, ...others] = originsOf(plan(), place)
    expect(others.length).toBe(messages.filter((m) => m.place === place).length - 1)
    expect(one).toMatchObject({ equipment: 'Kiln 1' })
    expect(one!.members.map((m) => [m.key, m.how, m.text, m.handles])).toEqual([
      ['temp', 'tag', '', [1]],
      ['mean', 'tag', '', [2]],
      ['share', 'expression', 'a / b', [3, 4]],
      ['line', 'constant', 'B', []],
    ])
  })

  it('through a step that takes its time: what went in under the same name; what the step itself made comes from it', () => {
    const row = (place: number) => ({ kind: 'row' as const, place })
    const behind = [{ ...members[0]!, fill: row(0) }, member('count', 'integer', { fill: row(1) })]
    const base = plan()
    const through = plan({
      equipment: [{ ...base.equipment[0]!, members: behind }],
      messages: [{ ...base.messages[0]!, equipment: [0], members: null }],
      stages: [{ step: 0, equipment: [members], gates: [[]], work: { kind: 'script', code: '', gives: [] } }],
    })
    const found = originsOf(through, through.messages[0]!.place as string)[0]!.members
    expect(found.map((m) => [m.key, m.how, m.handles])).toEqual([
      ['temp', 'tag', [1]],
      ['count', 'step', []],
    ])
  })

  it('what goes elsewhere is not in it', () => expect(originsOf(plan(), 'nowhere')).toEqual([]))
})

it.each<[Parameters<typeof mayBe>[0], string, boolean]>([
  ['a/b', 'a/b', true],
  ['a/b', 'a/c', false],
  [['a.b/', { take: 'value', member: 0, filters: [], rule: null } as never], 'a.b/7', true],
  [['a.b/', { take: 'value', member: 0, filters: [], rule: null } as never], 'aXb/7', false],
])('%j may be %s: %s', (place, is, may) => expect(mayBe(place, is)).toBe(may))
