import { describe, expect, it } from 'vitest'
import type { MqttSettings } from '~/contract/destinations/mqtt'
import type { EquipmentClass } from '~/contract/equipment'
import { Member } from '~/contract/equipment'
import type { Plan, PublicationDraft } from '~/contract/publication'
import { flatJsonSettings, type ShapeInput, ShapeSettings } from '~/contract/shape'
import { type Tag, TagDraft } from '~/contract/tag'
import { addressWriter } from '../address/topic-template'
import { type CompileOptions, compile } from './compile'
import { leftBehind } from './left-behind'
import { type OverMqtt, overMqtt } from './over-mqtt'
import type { World } from './placed'
import { valueFindings } from './value-findings'

const tag = (id: string, handle: number, name: string): Tag => ({
  ...TagDraft.parse({ name, sourceId: '0197c1d2-0000-7000-8000-000000000001', address: id, dataType: 'number' }),
  id,
  handle,
  version: 1,
})
const machine: EquipmentClass = {
  id: 'machine',
  name: 'Machine',
  description: '',
  extendsId: null,
  members: ['speed', 'order', 'at'].map((key) => Member.parse({ id: key, key, label: key, required: false })),
  version: 3,
  equipmentCount: 2,
}
const one = (
  id: string,
  name: string,
  parentId: string | null,
  level: World['equipment'] extends ReadonlyMap<string, infer E> ? (E extends { level: infer L } ? L : never) : never,
  bindings = {},
  more = {},
) => ({
  id,
  name,
  parentId,
  level,
  classId: Object.keys(bindings).length > 0 ? 'machine' : null,
  alias: '',
  facts: {},
  externalIds: {},
  counts: {},
  bindings,
  version: 1,
  ...more,
})
const bound = (n: number) => ({ speed: { kind: 'tag' as const, tagId: `s${n}` }, order: { kind: 'tag' as const, tagId: `o${n}` } })
const world: World = {
  tags: new Map(
    [1, 2]
      .flatMap((n) => [tag(`s${n}`, n * 10, `Hall/Machine ${n}/speed now`), tag(`o${n}`, n * 10 + 1, `Hall/Machine ${n}/order`)])
      .map((t) => [t.id, t]),
  ),
  classes: new Map([['machine', machine]]),
  records: new Map(),
  madeUpSources: new Set(),
  equipment: new Map(
    [
      one('v', 'Varnmoor', null, 'enterprise'),
      one('p', 'Clay Prep', 'v', 'area'),
      one('m1', 'Pan Mill', 'p', 'work centre', bound(1), { alias: 'Mill A' }),
      one('m2', 'pan mill', 'p', 'work centre', bound(2), { facts: { hall: 2 } }),
    ].map((e) => [e.id, e]),
  ),
}
const draft = (part: Partial<OverMqtt> = {}, shape?: ShapeInput): PublicationDraft =>
  overMqtt({
    name: 'All Mills',
    equipmentIds: ['m1', 'm2'],
    trigger: { kind: 'change' },
    shape: shape ? ShapeSettings.parse(shape) : flatJsonSettings,
    topic: '{path}',
    destinationId: 'd',
    ...part,
  })
/** A destination that speaks MQTT 3.1.1, of which only that is asked. */
const old = { name: 'Old', kind: 'mqtt', settings: { protocol: '3.1.1' } as MqttSettings } as const
const look = (d: PublicationDraft, o?: CompileOptions) => {
  const { body, findings } = compile(d, world, o)
  return { topics: body.messages.map((m) => m.place), body, said: findings.map((f) => `${f.severity} ${f.section}: ${f.message}`) }
}

describe('what a publication sends, and where', () => {
  it('one message an equipment, a member, or for all, as the shape says', () => {
    expect(look(draft()).topics).toEqual(['varnmoor/clay-prep/mill-a', 'varnmoor/clay-prep/pan-mill'])
    expect(look(draft({ topic: '{name}/{member}' }, { kind: 'value' })).topics).toEqual([
      'mill-a/speed',
      'mill-a/order',
      'pan-mill/speed',
      'pan-mill/order',
    ])
    expect(look(draft({ topic: '{tag}' }, { kind: 'value-quality-time' })).topics[0]).toBe('hall/machine-1/speed-now')
    const all = look(draft({ topic: '{path}/{class}' }, { kind: 'rows', per: 'publication' }))
    expect(all.topics).toEqual(['varnmoor/clay-prep/all-mills/machine'])
    expect(all.body.messages[0]!.equipment).toEqual([0, 1])
    expect(look(draft({}, { kind: 'sparkplug-b', group: 'works', node: 'prep' })).topics).toEqual([
      'spBv1.0/works/DDATA/prep/Mill A',
      'spBv1.0/works/DDATA/prep/pan mill',
    ])
    expect(look(draft({ topic: 'x' }, { kind: 'pubsub-json' })).body.reads).toEqual([expect.stringContaining('#')])
  })

  it('facts go out of equipment that has no members at all', () => {
    const { topics, said } = look(draft({ equipmentIds: ['p', 'm1'], topic: '{enterprise}/facts' }, { kind: 'device-facts' }))
    expect(topics).toEqual(['varnmoor/facts'])
    expect(said.filter((s) => s.startsWith('stops'))).toEqual([])
  })

  it.each<[string, Partial<OverMqtt>, ShapeInput | undefined, string]>([
    ['bare values on one topic', { topic: '{name}' }, { kind: 'value' }, 'stops address: Mill A speed and Mill A order share the topic mill-a'],
    ['messages on one topic', { topic: 'all' }, undefined, 'warns address: Mill A and pan mill share the topic all'],
    ['twins that differ in case', { topic: "{name|replace('Mill A', 'Pan Mill')}" }, undefined, 'warns address: Differ only in the case'],
    ['a fact that one has not', { topic: '{fact.hall}' }, undefined, 'stops address: {fact.hall} means nothing for Pan Mill'],
    ['a member that is not there', { topic: '{value.gone}' }, undefined, 'stops address: {value.gone} means nothing for'],
    ['what only steers', { topic: '{value.order}' }, undefined, 'warns address: order steers the address and is in the payload too'],
    ['an empty topic', { topic: '' }, undefined, 'stops address: Which topic?'],
    ['a broken header', { headers: [{ name: 'x', value: '{site|}' }] }, undefined, 'stops address: Header x: A filter is missing'],
    ['a broken template', {}, { kind: 'template', body: '{"a": ${gone}}' }, 'stops shape: ${gone} is nothing that Machine has'],
    ['a template that is not JSON', {}, { kind: 'template', body: '{"a": }' }, 'which is no JSON'],
    [
      'fields of one name',
      { topic: '{tag}' },
      { kind: 'value-quality-time', valueName: 'v', qualityName: 'v' },
      'stops shape: Two of its fields have the same name',
    ],
    [
      'changes that are retained',
      { retain: true },
      { kind: 'flat-json', members: 'changed' },
      'warns safely: A retained message with only what changed',
    ],
  ])('%s', (_, part, shape, words) => expect(look(draft(part, shape)).said.join('\n')).toContain(words))

  it('members that the message needs the name of are refused', () => {
    const equipment = new Map(world.equipment)
    equipment.set('m1', one('m1', 'Pan Mill', 'p', 'work centre', { ...bound(1), at: { kind: 'tag', tagId: 's1' } }))
    const found = compile(draft({ equipmentIds: ['m1'] }), { ...world, equipment }).findings
    expect(found[0]).toMatchObject({
      severity: 'stops',
      section: 'shape',
      message: 'Pan Mill has a member called at, as the message has a field of its own',
    })
  })

  it('what steers stays out of the payload when asked', () => {
    const { body, said } = look(draft({ topic: '{value.order}/{name}', steersOnly: true }))
    expect(body.messages.map((m) => m.members)).toEqual([[0], [0]])
    expect(said).toEqual([])
  })

  const other = (d: PublicationDraft): Plan => ({ ...d, ...compile(d, world).body, publicationId: 'other', name: 'Other', number: 1, delivery: 9 })

  it('another publication on the same topic, or as the same edge node, is told', () => {
    expect(look(draft(), { publicationId: 'me', others: [other(draft())] }).said).toEqual([
      'warns address: Other writes to varnmoor/clay-prep/mill-a too',
    ])
    expect(look(draft({ destinationId: 'elsewhere' }), { others: [other(draft())] }).said).toEqual([])
    expect(look(draft(), { publicationId: 'other', others: [other(draft())] }).said).toEqual([])
    const waiting = other(draft({ topic: '{enterprise}/clay-prep/{value.order}' }))
    expect(look(draft(), { others: [waiting] }).said[0]).toContain('Other writes to varnmoor/clay-prep/mill-a too')
    expect(look(draft({}, { kind: 'sparkplug-b' }), { others: [other(draft({}, { kind: 'sparkplug-b' }))] }).said.join()).toContain(
      'stops shape: Other is the edge node plant/embrik on this destination already',
    )
    const named = (node: string) => draft({}, { kind: 'sparkplug-b', node })
    expect(look(named('kiln'), { others: [other(named('dryer'))] }).said).toEqual([])
  })

  it('headers on a destination that has none are told', () => {
    expect(look(draft({ expiryS: 5 }), { destination: old }).said).toEqual([
      expect.stringContaining('warns through: The destination speaks MQTT 3.1.1'),
    ])
  })

  it('events whose attributes are headers stop at a destination that has none', () => {
    const binary = (mode: 'binary' | 'structured') => look(draft({}, { kind: 'cloudevents', mode }), { destination: old }).said
    expect(binary('binary')).toEqual([expect.stringContaining('stops shape: CloudEvents in binary mode')])
    expect(binary('structured')).toEqual([])
  })

  it('two publications with one publisher id at one destination stop: their data set writers have the same numbers', () => {
    const uadp = (publisherId: number) => draft({}, { kind: 'pubsub-uadp', publisherId })
    const said = (mine: number, theirs: PublicationDraft) => look(uadp(mine), { others: [other(theirs)] }).said.filter((f) => f.startsWith('stops'))
    expect(said(1, uadp(1))).toEqual([expect.stringContaining('stops shape: Other has the publisher id 1 on this destination too')])
    expect(said(2, uadp(1))).toEqual([])
    expect(said(1, draft({}, { kind: 'pubsub-json', publisherId: '1' }))).toEqual([])
    expect(said(1, { ...uadp(1), destinationId: machine.id })).toEqual([])
  })

  it('values that a receiver would get otherwise than they are now', () => {
    const steered = draft({ topic: '{enterprise}/{value.order}/{unit}', headers: [{ name: 'order', value: 'no. {value.order}' }] })
    const { body } = compile(steered, world)
    const found = (order: string) =>
      valueFindings(body.equipment, body.messages, (h) => (h === 11 ? order : null)).map((f) => `${f.section}: ${f.message}`)
    expect(found('o'.repeat(200))).toEqual([])
    expect(found('o'.repeat(201))).toEqual([
      expect.stringMatching(/^address: .*order is longer than 200 characters now: a topic takes the first 200/),
    ])
    expect(found('o'.repeat(4001))).toHaveLength(2)
    expect(found('a\udc00')).toEqual([expect.stringContaining('half a character')])
    expect(found('a\ud83d\udd25')).toEqual([])
    // What is cut is cut between characters.
    const write = addressWriter(body.messages[0]!.headers[0]![1]) as (value: () => unknown, at: number) => string
    expect(write(() => `${'o'.repeat(3999)}\u{1f525}`, 0)).toBe(`no. ${'o'.repeat(3999)}`)
  })

  it('retained topics that a change leaves behind', () => {
    const plan = (part: Partial<OverMqtt>) => ({ ...draft(part), ...compile(draft(part), world).body })
    const kept = (place: string) => ({ place, key: '' })
    const before = plan({ retain: true })
    expect(leftBehind(before, plan({ retain: true, topic: 'x/{name}' }))).toEqual([
      kept('varnmoor/clay-prep/mill-a'),
      kept('varnmoor/clay-prep/pan-mill'),
    ])
    expect(leftBehind(before, plan({ retain: true, equipmentIds: ['m1'] }))).toEqual([kept('varnmoor/clay-prep/pan-mill')])
    expect(leftBehind(before, plan({ retain: false }))).toHaveLength(2)
    expect(leftBehind(before, before)).toEqual([])
    expect(leftBehind(plan({}), plan({ topic: 'x/{name}' }))).toEqual([])
    expect(leftBehind(plan({ retain: true, topic: 'a/{value.order}' }), before)).toEqual([])
  })
})
