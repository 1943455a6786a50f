import { describe, expect, it } from 'vitest'
import { type Tag, TagDraft } from '~/contract/tag'
import { surroundings } from './columns'
import { counted, fillParameters, layDown, makePattern } from './pattern'
import { finish, planRows } from './plan'

const field = '01990000-0000-7000-8000-000000000001'
const kiln = '01990000-0000-7000-8000-000000000002'
const around = surroundings(
  [
    { id: field, name: 'Field', kind: 'modbus' },
    { id: kiln, name: 'Kiln', kind: 'opcua' },
  ],
  [],
)
let handle = 0
const tag = (name: string, sourceId: string, address: string, more: Partial<Tag> = {}): Tag => ({
  ...TagDraft.parse({ name, sourceId, address, dataType: 'number' }),
  id: `01990000-0000-7000-9000-${String(++handle).padStart(12, '0')}`,
  handle,
  version: 1,
  ...more,
})
const meter = [
  tag('Hall/Meter 1/power', field, '11 holding@100 float32 CDAB', { unit: 'kW', range: { low: 0, high: 400 }, description: 'of Meter 1' }),
  tag('Hall/Meter 1/energy', field, '11 holding@104 uint32', { unit: 'kWh', deadband: { kind: 'absolute', size: 1 } }),
  tag('Hall/other', field, '11 holding@0 int16'),
]
const made = (m: ReturnType<typeof makePattern>) => {
  if ('problem' in m) throw new Error(m.problem)
  return m
}

describe('a pattern', () => {
  const { draft, first } = made(makePattern('meter', 'Hall/Meter 1', meter, around, [{ text: 'Meter 1', parameter: 'device' }]))
  it('has what differs from the defaults, with parameters for what changes from copy to copy', () => {
    expect(draft.parameters).toEqual(['folder', 'source', 'unit', 'base address', 'device'])
    expect(draft.rows).toEqual([
      {
        name: '{folder}/power',
        address: '{unit} holding@{base address} float32 CDAB',
        unit: 'kW',
        description: 'of {device}',
        low: '0',
        high: '400',
      },
      { name: '{folder}/energy', address: '{unit} holding@{base address+4} uint32', unit: 'kWh', deadband: '1' },
    ])
    expect(first).toEqual({ folder: 'Hall/Meter 1', source: 'Field', unit: '11', 'base address': '100', device: 'Meter 1' })
  })

  it('laid down where it was made gives the same tags', () => {
    const laid = layDown(draft, Object.fromEntries(Object.entries(first).map(([p, v]) => [p, { first: v, step: 0 }])), 1)
    if ('problem' in laid) throw new Error(laid.problem)
    expect(finish(planRows({ ...laid, tags: meter, around, decimal: '.' })).counts).toEqual({ add: 0, change: 0, same: 2, faulty: 0 })
  })

  it('laid down many times counts on', () => {
    const laid = layDown(
      draft,
      {
        folder: { first: 'Hall/Meter 2', step: 1 },
        source: { first: 'Field', step: 0 },
        unit: { first: '12', step: 1 },
        'base address': { first: '200', step: 50 },
        device: { first: 'Meter 02', step: 1 },
      },
      3,
    )
    if ('problem' in laid) throw new Error(laid.problem)
    const plan = finish(planRows({ ...laid, tags: meter, around, decimal: '.' }))
    expect(plan.counts.add).toBe(6)
    expect(plan.rows.map((r) => [r.name, r.draft!.address])).toEqual([
      ['Hall/Meter 2/power', '12 holding@200 float32 CDAB'],
      ['Hall/Meter 2/energy', '12 holding@204 uint32'],
      ['Hall/Meter 3/power', '13 holding@250 float32 CDAB'],
      ['Hall/Meter 3/energy', '13 holding@254 uint32'],
      ['Hall/Meter 4/power', '14 holding@300 float32 CDAB'],
      ['Hall/Meter 4/energy', '14 holding@304 uint32'],
    ])
    expect(plan.rows[4]!.draft).toMatchObject({ description: 'of Meter 04', range: { low: 0, high: 400 } })
  })

  it('of another protocol replaces the words that were named', () => {
    const zone = [tag('Kiln/Zone 1/temperature', kiln, 'ns=2;s=zone1.temperature')]
    const m = made(makePattern('zone', 'Kiln/Zone 1', zone, around, [{ text: 'zone1', parameter: 'node' }]))
    expect(m.draft.rows).toEqual([{ name: '{folder}/temperature', address: 'ns=2;s={node}.temperature' }])
  })

  it('says why there can be none', () => {
    expect(makePattern('x', 'Nowhere', meter, around, [])).toEqual({ problem: 'No tag lies under Nowhere' })
    expect(makePattern('x', 'A', [tag('A/{b}', kiln, 'i=1')], around, [])).toHaveProperty('problem')
    expect(makePattern('x', 'A', [tag('A/b', kiln, 'i=1'), tag('A/c', field, '1 holding@1 int16')], around, [])).toHaveProperty('problem')
    expect(layDown(draft, { folder: { first: 'A', step: 0 } }, 1)).toEqual({ problem: 'Nothing is given for {source}' })
  })
})

it.each([
  ['{a}-{b+2}', { a: 'x', b: '40' }, { text: 'x-42' }],
  ['{a}', {}, { problem: 'Nothing is given for {a}' }],
  ['{a+1}', { a: 'x' }, { problem: '{a+1} needs a whole number, not x' }],
  ['plain', {}, { text: 'plain' }],
])('%s filled with %j is %j', (text, values, expected) => expect(fillParameters(text, values)).toEqual(expected))

it.each([
  ['Meter 08', 2, 'Meter 10'],
  ['7', 3, '10'],
  ['Line 2 south', 1, 'Line 3 south'],
  ['Hall', 5, 'Hall'],
])('%s and %s is %s', (text, by, expected) => expect(counted(text, by)).toBe(expected))
