import { describe, expect, it } from 'vitest'
import { type Binding, ClassDraft, type Equipment, EquipmentDraft, type MemberInput } from '~/contract/equipment'
import { type Tag, TagDraft, type TagInput } from '~/contract/tag'
import { makeCell } from '../publication/cells/maker'
import { Status } from '../value/quality'
import { checkClass } from './class-check'
import { type ClassLike, isA, membersOf } from './members'
import { type Leaf, Resolver, recordKey } from './resolve'

const uuid = (n: number) => `00000000-0000-7000-8000-${String(n).padStart(12, '0')}`
const names = new Map<string, string>()
/** A readable name as an id. */
const id = (name: string) => {
  if (!names.has(name)) names.set(name, uuid(names.size + 1))
  return names.get(name)!
}
const cls = (name: string, members: MemberInput[], extendsId: string | null = null): ClassLike => ({
  id: id(name),
  name,
  ...(({ members: m, extendsId: x }) => ({ members: m, extendsId: x }))(ClassDraft.parse({ name, members, extendsId })),
})
const value = (key: string, part: Partial<MemberInput> = {}): MemberInput => ({ id: key.toLowerCase(), key, label: key, ...part })
const equipment = (name: string, className: string | null, bindings: Record<string, Binding> = {}, part: Partial<Equipment> = {}): Equipment => ({
  ...EquipmentDraft.parse({ name, parentId: null, level: 'work unit', classId: className && id(className), bindings }),
  id: id(name),
  version: 1,
  ...part,
})
const tag = (name: string, handle: number, part: Partial<TagInput> = {}): Tag => ({
  ...TagDraft.parse({ name, sourceId: uuid(999), address: name, dataType: 'number', ...part }),
  id: id(name),
  handle,
  version: 1,
})
const byTag = (name: string): Binding => ({ kind: 'tag', tagId: id(name) })
const model = (classes: ClassLike[], all: Equipment[], tags: Tag[] = [], records = new Map<string, number>()) =>
  new Resolver({
    classes: new Map(classes.map((c) => [c.id, c])),
    equipment: new Map(all.map((e) => [e.id, e])),
    tags: new Map(tags.map((t) => [t.id, t])),
    records,
  })
const leaves = (r: Resolver, name: string) => r.leavesOf(r.model.equipment.get(id(name))!)
const shown = (l: Leaf) => `${l.keys.join('.')}${l.problem ? ` (${l.problem.kind})` : ''}`

/** What a leaf gives with these present values by handle. */
function now(leaf: Leaf, values: Record<number, [value: number | string | boolean | null, status?: number]>) {
  const cell = makeCell(leaf.fill!, leaf.member.dataType)
  const from = { value: [] as (number | string | boolean | null)[], status: [] as number[], time: [] as number[] }
  for (const [h, [v, status]] of Object.entries(values)) {
    from.value[Number(h)] = v
    from.status[Number(h)] = status ?? 0
    from.time[Number(h)] = 1000 + Number(h)
  }
  cell.read(from, 5000)
  return { value: cell.value, status: cell.status, time: cell.time, problem: cell.problem }
}

const probe = cls('Probe', [value('temperature', { unit: '°C' }), value('battery', { unit: 'V', required: false })])
const chamber = cls('Chamber', [
  value('dry', { unit: '°C' }),
  value('wet', { unit: '°C' }),
  value('spread', {
    unit: 'K',
    calculation: { text: 'a - b', inputs: { a: { kind: 'member', path: 'dry' }, b: { kind: 'member', path: 'wet' } } },
  }),
  value('order', { dataType: 'text', required: false }),
])

describe('members of an equipment', () => {
  it('follow the class: inherited ones first, parts and lists inside', () => {
    const base = cls('Machine', [value('running', { dataType: 'boolean' })])
    const kiln = cls(
      'Kiln',
      [
        value('zones', { classId: id('Probe'), many: true }),
        value('exhaust', { classId: id('Probe') }),
        value('notes', { dataType: 'text', many: true, required: false }),
      ],
      id('Machine'),
    )
    const one = equipment('K', 'Kiln', { 'zones/1/temperature': byTag('t') }, { counts: { zones: 2, notes: 1 } })
    const r = model([base, probe, kiln], [one], [tag('t', 1, { unit: '°C' })])
    expect(leaves(r, 'K').map(shown)).toEqual([
      'running (unbound)',
      'zones.0.temperature (unbound)',
      'zones.0.battery (unbound)',
      'zones.1.temperature',
      'zones.1.battery (unbound)',
      'exhaust.temperature (unbound)',
      'exhaust.battery (unbound)',
      'notes.0 (unbound)',
    ])
    expect(isA(r.model.classes, id('Kiln'), id('Machine'))).toBe(true)
    expect(membersOf(r.model.classes, id('Kiln')).map((m) => m.key)).toEqual(['running', 'zones', 'exhaust', 'notes'])
  })

  it('a part may be another equipment, and a list all of a class that stand below', () => {
    const line = cls('Line', [value('first', { classId: id('Probe') }), value('all', { classId: id('Probe'), many: true })])
    const top = equipment('L', 'Line', { first: { kind: 'equipment', equipmentId: id('P2') }, all: { kind: 'below' } })
    const under = ['P10', 'P2', 'P1'].map((n, i) => equipment(n, 'Probe', { temperature: byTag(`t${i}`) }, { parentId: id('L') }))
    const r = model(
      [probe, line],
      [top, ...under],
      [0, 1, 2].map((i) => tag(`t${i}`, i, { unit: '°C' })),
    )
    expect(
      leaves(r, 'L')
        .filter((l) => l.fill)
        .map((l) => [l.keys.join('.'), l.owner.name]),
    ).toEqual([
      ['first.temperature', 'P2'],
      ['all.0.temperature', 'P1'],
      ['all.1.temperature', 'P2'],
      ['all.2.temperature', 'P10'],
    ])
  })

  it('an empty required list, and equipment of another class in a part, stand out', () => {
    const line = cls('Line', [value('first', { classId: id('Probe') }), value('all', { classId: id('Probe'), many: true })])
    const r = model(
      [probe, line, chamber],
      [equipment('L', 'Line', { first: { kind: 'equipment', equipmentId: id('C') } }), equipment('C', 'Chamber')],
    )
    expect(leaves(r, 'L').map(shown)).toEqual(['first (type)', 'all (unbound)'])
  })
})

describe('what fills a member', () => {
  const one = equipment(
    'C1',
    'Chamber',
    {
      dry: byTag('dry'),
      wet: byTag('wet'),
      order: { kind: 'record', sourceId: id('orders'), row: '{fact.line}', column: 'order_no' },
    },
    { facts: { line: 'kiln 1' } },
  )
  const tags = [tag('dry', 1, { unit: '°F', deadband: { kind: 'absolute', size: 0.9 } }), tag('wet', 2, { unit: '°C' })]
  const records = new Map([[recordKey(id('orders'), 'kiln 1', 'order_no', 'text'), 7]])
  const r = model([chamber], [one], tags, records)
  const [dry, , spread, order] = leaves(r, 'C1') as [Leaf, Leaf, Leaf, Leaf]

  it('units are converted, deadbands with them', () => {
    expect(dry).toMatchObject({ problem: null, convertedFrom: '°F' })
    expect(now(dry, { 1: [212] })).toMatchObject({ value: expect.closeTo(100, 9), status: 0, time: 1001 })
    expect(makeCell(dry.fill!, 'number').width).toBeCloseTo(0.5, 9)
  })

  it('a class computes members of its own, from converted values, with the time of the newest', () => {
    expect(spread).toMatchObject({ byClass: true, problem: null })
    expect(now(spread, { 1: [212], 2: [40] })).toMatchObject({ value: expect.closeTo(60, 9), status: 0, time: 1002 })
  })

  it('what is computed is as good as its worst input', () => {
    expect(now(spread, { 1: [212], 2: [40, Status.stale] })).toMatchObject({ value: expect.closeTo(60, 9), status: Status.stale })
    expect(now(spread, { 1: [212, 0x808c0000], 2: [40, Status.stale] })).toMatchObject({ value: null, status: 0x808c0000 })
    expect(now(spread, { 1: [212] })).toMatchObject({ value: null, status: Status.waitingForInitialData })
  })

  it('a record fills it under the row that its facts name', () => {
    expect(now(order, { 7: ['WO-48102'] })).toMatchObject({ value: 'WO-48102', status: 0 })
    const lost = model([chamber], [{ ...one, facts: {} }], tags, records)
    expect(leaves(lost, 'C1')[3]!.problem).toMatchObject({ kind: 'broken', message: 'The record source does not give order_no' })
  })

  it('an expression without an answer is bad, and says why', () => {
    const ratio = equipment('C2', 'Chamber', {
      dry: {
        kind: 'expression',
        expression: { text: 'x / y', inputs: { x: { kind: 'tag', tagId: id('dry') }, y: { kind: 'tag', tagId: id('wet') } } },
      },
    })
    const leaf = leaves(model([chamber], [ratio], tags), 'C2')[0]!
    expect(now(leaf, { 1: [7], 2: [2] })).toMatchObject({ value: 3.5, status: 0 })
    expect(now(leaf, { 1: [7], 2: [0] })).toMatchObject({
      value: null,
      status: Status.noAnswer,
      problem: expect.stringContaining('division by zero'),
    })
  })

  it('facts, constants, and members of others fill it too, in its own unit', () => {
    const probes = equipment(
      'P',
      'Probe',
      { temperature: { kind: 'fact', fact: 'limit' }, battery: { kind: 'constant', value: 3 } },
      { facts: { limit: 80 } },
    )
    const other = cls('Far', [value('limit', { unit: '°F' })])
    const far = equipment('F', 'Far', { limit: { kind: 'member', equipmentId: id('P'), path: 'temperature' } })
    const s = model([probe, other], [probes, far])
    expect(now(leaves(s, 'P')[0]!, {})).toMatchObject({ value: 80 })
    expect(now(leaves(s, 'F')[0]!, {}).value).toBe(80)
    const measured = model([probe, other], [{ ...probes, bindings: { temperature: byTag('wet') } }, far], tags)
    expect(leaves(measured, 'F')[0]!.fill).toMatchObject({ kind: 'tag', handle: 2, factor: 1.8, offset: 32 })
  })

  it.each([
    [{ unit: 'bar' }, 'unit', 'It is in bar (pressure), the member in °C (temperature)'],
    [{ unit: '' }, 'unit', 'It is in no unit, the member in °C (temperature)'],
    [{ dataType: 'text' as const }, 'type', 'It gives text, the member is a number'],
    [{ dataType: 'integer' as const, unit: '°C' }, undefined, undefined],
    [{ dataType: 'integer' as const, unit: 'K' }, undefined, undefined],
  ])('a tag with %j: %s', (part, kind, message) => {
    const s = model([probe], [equipment('P', 'Probe', { temperature: byTag('x') })], [tag('x', 1, part)])
    const { problem } = leaves(s, 'P')[0]!
    expect(problem?.kind).toBe(kind)
    expect(problem?.message).toBe(message)
    // Sent all the same: what stands out is for people to mend.
    expect(leaves(s, 'P')[0]!.fill).not.toBeNull()
  })

  it('what went away is told', () => {
    const s = model([probe], [equipment('P', 'Probe', { temperature: byTag('gone'), battery: { kind: 'fact', fact: 'volts' } })])
    expect(leaves(s, 'P').map((l) => l.problem?.message)).toEqual(['The tag is gone', 'P has no fact volts'])
  })

  it('a circle is told with its way', () => {
    const of = (name: string): Binding => ({ kind: 'member', equipmentId: id(name), path: 'temperature' })
    const s = model(
      [probe],
      [
        equipment('A', 'Probe', { temperature: of('B') }),
        equipment('B', 'Probe', { temperature: of('C') }),
        equipment('C', 'Probe', { temperature: of('A') }),
      ],
    )
    expect(leaves(s, 'A')[0]!.problem).toEqual({
      kind: 'cycle',
      stops: true,
      message: 'It would need itself: A temperature > B temperature > C temperature > A temperature',
    })
  })

  it('a part that would hold itself is told, and comes to an end', () => {
    const box = cls('Box', [value('inner', { classId: id('Probe') })])
    const ring = cls('Ring', [value('next', { classId: id('Ring2') })])
    const ring2 = cls('Ring2', [value('back', { classId: id('Ring') })])
    const s = model(
      [probe, box, ring, ring2],
      [
        equipment('R', 'Ring', { next: { kind: 'equipment', equipmentId: id('R2') } }),
        equipment('R2', 'Ring2', { back: { kind: 'equipment', equipmentId: id('R') } }),
      ],
    )
    expect(leaves(s, 'R').map((l) => l.problem?.message)).toEqual(['R would hold itself'])
  })
})

describe('a class among the others', () => {
  const others = new Map([probe, chamber, cls('Machine', [value('running', { dataType: 'boolean' })])].map((c) => [c.id, c]))
  const problems = (name: string, members: MemberInput[], extendsId: string | null = null, own: string | null = null) =>
    checkClass(ClassDraft.parse({ name, members, extendsId }), own && id(own), others)

  it('is fine', () => expect(problems('New', [value('a'), value('p', { classId: id('Probe') })], id('Machine'))).toEqual({}))
  it.each([
    ['an inherited name', () => problems('New', [value('running')], id('Machine')), { 'members.0.key': 'running is inherited already' }],
    ['no such part', () => problems('New', [value('p', { classId: uuid(7777) })]), { 'members.0.classId': 'There is no such class' }],
    [
      'itself as a part',
      () => problems('Probe', [value('p', { classId: id('Probe') })], null, 'Probe'),
      { 'members.0.classId': 'A class within itself never ends: Probe > Probe' },
    ],
    [
      'itself as a base',
      () => problems('Machine', [], id('Machine'), 'Machine'),
      { extendsId: 'A class within itself never ends: Machine > Machine' },
    ],
    [
      'a wrong expression',
      () => problems('New', [value('a'), value('b', { calculation: { text: 'a +', inputs: { a: { kind: 'member', path: 'a' } } } })]),
      { 'members.1.calculation': 'Something is missing at the end' },
    ],
    [
      'calculations that need each other',
      () =>
        problems('New', [
          value('a', { calculation: { text: 'x', inputs: { x: { kind: 'member', path: 'b' } } } }),
          value('b', { calculation: { text: 'x', inputs: { x: { kind: 'member', path: 'a' } } } }),
        ]),
      {
        'members.0.calculation': 'It would need itself: New a > New b > New a',
        'members.1.calculation': expect.stringContaining('It would need itself'),
      },
    ],
  ])('refuses %s', (_, check, wanted) => expect(check()).toEqual(wanted))

  it('keeps its name out of classes that extend it', () => {
    const wide = new Map([...others, ...[cls('Press', [value('force')], id('Machine'))].map((c) => [c.id, c] as const)])
    expect(checkClass(ClassDraft.parse({ name: 'Machine', members: [value('force')] }), id('Machine'), wide)).toEqual({
      'members.0.key': 'Press, which extends it, has force already',
    })
  })
})
