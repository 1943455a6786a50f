import { describe, expect, it } from 'vitest'
import { type Equipment, Member } from '~/contract/equipment'
import { newId } from '~/contract/id'
import type { Plan, PublicationDraft } from '~/contract/publication'
import { flatJsonSettings } from '~/contract/shape'
import { type Tag, TagDraft } from '~/contract/tag'
import { Status } from '~/core/value/quality'
import { compile } from './compile'
import { outsideDifferences } from './outside'
import { type OverMqtt, overMqtt } from './over-mqtt'
import type { World } from './placed'
import { Runner } from './runner'

const zoneClass = {
  id: 'cls',
  name: 'Kiln Zone',
  extendsId: null,
  members: [
    Member.parse({ id: 'temperature', key: 'temperature', label: 'Temperature', unit: '°C' }),
    Member.parse({ id: 'burner', key: 'burner', label: 'Burner', dataType: 'boolean' }),
  ],
}
const tag = (id: string, handle: number, size = 0): Tag => ({
  ...TagDraft.parse({
    name: id,
    sourceId: newId(),
    address: id,
    dataType: id.startsWith('b') ? 'boolean' : 'number',
    unit: id.startsWith('b') ? '' : '°C',
    deadband: size ? { kind: 'absolute', size } : null,
  }),
  sourceId: 's',
  id,
  handle,
  version: 1,
})
const equipment = (id: string, name: string, parentId: string | null, level: Equipment['level'], tags: Record<string, string> = {}): Equipment => ({
  alias: '',
  facts: {},
  externalIds: {},
  counts: {},
  id,
  name,
  parentId,
  level,
  classId: level === 'work unit' ? 'cls' : null,
  bindings: Object.fromEntries(Object.entries(tags).map(([k, tagId]) => [k, { kind: 'tag' as const, tagId }])),
  version: 1,
})
const world: World = {
  madeUpSources: new Set(),
  records: new Map(),
  classes: new Map([['cls', zoneClass]]),
  tags: new Map([tag('t1', 1, 0.5), tag('b1', 2), tag('t2', 3, 0.5)].map((t) => [t.id, t])),
  equipment: new Map(
    [
      equipment('e', 'Varnmoor', null, 'enterprise'),
      equipment('k', 'Kiln', 'e', 'work centre'),
      equipment('z1', 'Zone 1', 'k', 'work unit', { temperature: 't1', burner: 'b1' }),
      equipment('z2', 'Zone 2', 'k', 'work unit', { temperature: 't2' }),
    ].map((e) => [e.id, e]),
  ),
}
const draft = (part: Partial<OverMqtt> = {}): PublicationDraft =>
  overMqtt({
    name: 'p',
    equipmentIds: ['z1', 'z2'],
    trigger: { kind: 'change' },
    shape: flatJsonSettings,
    topic: '{enterprise}/{centre}/{unit}/state',
    destinationId: 'd',
    ...part,
  })
const stops = (d: PublicationDraft) =>
  compile(d, world)
    .findings.filter((f) => f.severity === 'stops')
    .map((f) => f.message)

describe('preflight', () => {
  it('warns of members that are simulated, by the tag or by its source', () => {
    const simulated = { ...world, tags: new Map([...world.tags].map(([id, t]) => [id, { ...t, simulated: id === 'b1' }])) }
    const warned = (w: World) => compile(draft(), w).findings.find((f) => f.message.startsWith('Simulated'))
    expect(warned(simulated)).toMatchObject({ severity: 'warns', message: 'Simulated, not measured: Zone 1 Burner' })
    expect(warned({ ...world, madeUpSources: new Set(['s']) })!.message).toContain('Zone 2 Temperature')
    expect(warned(world)).toBeUndefined()
  })

  it('resolves topics, handles, and the narrowest filter over them', () => {
    const { body, findings } = compile(draft(), world)
    expect(body.messages.map((m) => m.place)).toEqual(['varnmoor/kiln/zone-1/state', 'varnmoor/kiln/zone-2/state'])
    expect(body.equipment[0]!.members.map((m) => m.fill)).toEqual([
      { kind: 'tag', handle: 1, width: 0.5, factor: 1, offset: 0 },
      { kind: 'tag', handle: 2, width: 0, factor: 1, offset: 0 },
    ])
    expect(body.reads).toEqual(['varnmoor/kiln/+/state'])
    expect(findings.map((f) => f.message)).toEqual(['Empty, so left out: Zone 2 Burner'])
  })

  it.each([
    [{ equipmentIds: ['gone'] }, 'no longer exists'],
    [{ equipmentIds: ['k'] }, 'has no members'],
    [{ topic: '{site}/x' }, '{site} means nothing for Zone 1, Zone 2'],
    [{ topic: '{nothing}' }, '{nothing} is not known'],
  ])('%j stops it: %s', (part, words) => expect(stops(draft(part)).join()).toContain(words))

  it('warns of a shared topic, and of what QoS 0 costs', () => {
    const { findings } = compile(draft({ topic: 'x/state', qos: 0, retain: true }), world)
    expect(findings.map((f) => f.message).join()).toMatch(/share the topic x\/state.*retained message at QoS 0.*nothing is sent again/)
    expect(findings.every((f) => f.severity === 'warns')).toBe(true)
  })
})

function running(part: Partial<OverMqtt> = {}) {
  const { body } = compile(draft(part), world)
  const plan: Plan = {
    ...body,
    publicationId: 'p',
    name: 'p',
    number: 1,
    delivery: 1,
    destinationId: 'd',
    trigger: { kind: 'change' },
    shape: flatJsonSettings,
    address: draft(part).address,
  }
  const values = { value: [null, 100, true, 200] as (number | boolean | null)[], status: [0, 0, 0, 0], time: [0, 1, 1, 1] }
  const runner = new Runner(plan)
  const speak = (handle: number) => {
    runner.touch(handle)
    const ready = runner.drain(values, 0)
    for (const e of ready) runner.encode(e, 0, 1)
    return ready
  }
  return { runner, values, speak }
}

describe('a running plan', () => {
  it('speaks on the first value, then only beyond the deadband, measured from what was sent', () => {
    const { values, speak } = running()
    expect(speak(1)).toEqual([0])
    values.value[1] = 100.4
    expect(speak(1)).toEqual([])
    values.value[1] = 100.6
    expect(speak(1)).toEqual([0])
    values.value[1] = 100.2
    expect(speak(1)).toEqual([])
  })

  it('always speaks when the quality turns', () => {
    const { values, speak } = running()
    speak(1)
    values.status[1] = 0x808c0000
    expect(speak(1)).toEqual([0])
    values.status[1] = 0x80310000
    expect(speak(1)).toEqual([])
    values.status[1] = 0
    expect(speak(1)).toEqual([0])
  })

  it('holds an equipment back until every member had a value, and then says it', () => {
    const { values, speak } = running()
    values.status[2] = Status.waitingForInitialData
    expect(speak(1)).toEqual([])
    values.status[2] = 0
    expect(speak(2)).toEqual([0])
  })

  it('says one thing once, however many members changed', () => {
    const { runner, values } = running()
    for (const h of [1, 2, 3, 1]) runner.touch(h)
    expect(runner.drain(values, 0)).toEqual([0, 1])
    expect(runner.drain(values, 0)).toEqual([])
  })

  it('does not care about tags that are not its own', () => {
    expect(running().speak(99)).toEqual([])
  })
})

describe('what receivers would see differently', () => {
  const publication = { ...draft(), id: 'p', version: 1, state: 'live' as const, liveVersion: 1, editedSinceLive: false }
  const with_ = (part: Partial<World>) => outsideDifferences([publication], world, { ...world, ...part })
  const members = (change: (m: Member) => Member | null) =>
    with_({ classes: new Map([['cls', { ...zoneClass, members: zoneClass.members.flatMap((m) => change(m) ?? []) }]]) })

  it('nothing, when only names for people change', () => expect(members((m) => ({ ...m, label: `${m.label}!` }))).toEqual([]))
  it('topics, when something above is renamed', () => {
    const equipment = new Map(world.equipment).set('k', { ...world.equipment.get('k')!, name: 'Old Kiln' })
    expect(with_({ equipment })).toEqual([
      {
        publication: 'p',
        live: true,
        equipment: 'Zone 1',
        what: 'topic',
        before: 'varnmoor/kiln/zone-1/state',
        after: 'varnmoor/old-kiln/zone-1/state',
      },
      {
        publication: 'p',
        live: true,
        equipment: 'Zone 2',
        what: 'topic',
        before: 'varnmoor/kiln/zone-2/state',
        after: 'varnmoor/old-kiln/zone-2/state',
      },
    ])
  })
  it('another unit or type under the same name', () => {
    const told = members((m) => (m.key === 'burner' ? { ...m, dataType: 'text' } : { ...m, unit: 'K' }))
    expect(told.map((d) => [d.equipment, d.what, d.before, d.after])).toEqual([
      ['Zone 1', 'unit', 'temperature: °C', 'K'],
      ['Zone 1', 'type', 'burner: boolean', 'text'],
      ['Zone 2', 'unit', 'temperature: °C', 'K'],
    ])
  })
  it('other figures under the same unit, when a tag is read in another', () => {
    const tags = new Map(world.tags).set('t1', { ...world.tags.get('t1')!, unit: 'K' })
    expect(with_({ tags }).map((d) => [d.equipment, d.what, d.before, d.after])).toEqual([
      ['Zone 1', 'value', 'temperature: as read', 'plus -273.15'],
    ])
  })
  it('names in payloads, and what is gone', () => {
    const told = members((m) => (m.key === 'burner' ? null : { ...m, key: 'temp' }))
    expect(told.map((d) => [d.equipment, d.what, d.before, d.after])).toEqual([
      ['Zone 1', 'name', 'temperature', 'temp'],
      ['Zone 1', 'gone', 'burner', ''],
      ['Zone 2', 'name', 'temperature', 'temp'],
    ])
  })
})

describe('a clause by itself', () => {
  it('is only for equipment of its class, or of one that extends it; for none it does not go live', () => {
    const special = { ...zoneClass, id: 'special', name: 'Special Zone', extendsId: 'cls' }
    const z2 = { ...world.equipment.get('z2')!, classId: 'special' }
    const with2: World = {
      ...world,
      classes: new Map([...world.classes, ['special', special]]),
      equipment: new Map([...world.equipment, ['z2', z2]]),
    }
    const names = (onlyClassId: string) => compile({ ...draft(), onlyClassId }, with2).body.equipment.map((e) => e.name)
    expect(names('cls')).toEqual(['Zone 1', 'Zone 2'])
    expect(names('special')).toEqual(['Zone 2'])
    expect(stops({ ...draft(), onlyClassId: 'other' })).toEqual(['None of the equipment is of the class that is no more'])
  })

  it('has steps of its own after the others, numbered on, and what is wrong with them is told by that number', () => {
    const keep = (condition: string) => ({ kind: 'keep' as const, condition, unknown: 'pass' as const })
    const { body } = compile({ ...draft({ steps: [keep('temperature > 1.0')] }), own: [keep('temperature < 9.0')] }, world)
    expect(body.messages[0]!.gates!.map((g) => g.step)).toEqual([0, 1])
    expect(stops({ ...draft({ steps: [keep('temperature > 1.0')] }), own: [keep('nothing > 1')] })[0]).toMatch(/^Step 2, Keep if: /)
  })
})
