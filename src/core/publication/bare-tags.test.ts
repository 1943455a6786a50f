import { describe, expect, it } from 'vitest'
import type { Finding, PublicationDraft, TagPick } from '~/contract/publication'
import { flatJsonSettings } from '~/contract/shape'
import { type Tag, TagDraft } from '~/contract/tag'
import { isPicked, pickedFolders } from './bare-tags'
import { compile } from './compile'
import { type OverMqtt, overMqtt } from './over-mqtt'
import type { World } from './placed'

const SOURCE = '01890000-0000-7000-8000-000000000001'
let handle = 0
const tag = (name: string, part: object = {}): Tag => ({
  ...TagDraft.parse({ name, sourceId: SOURCE, address: name, dataType: 'number', ...part }),
  ...{ id: `tag ${name}`, handle: handle++, version: 1 },
})
const all = [
  tag('Dryer/Fan/speed', { unit: '1/min', deadband: { kind: 'absolute', size: 5 } }),
  tag('Dryer/temperature', { unit: '°C', range: { low: 0, high: 200 } }),
  tag('Dryer/Zone 1/moisture'),
  tag('Dryers/temperature'),
  tag('Dryer/Zone 1/Moisture'),
  tag('Kiln/2 gas flow', { simulated: true }),
  tag('alone'),
]
const world: World = {
  tags: new Map(all.map((t) => [t.id, t])),
  ...{ equipment: new Map(), classes: new Map(), records: new Map(), madeUpSources: new Set<string>() },
}
const draft = (tags: Partial<TagPick>, part: Partial<OverMqtt> = {}): PublicationDraft =>
  overMqtt({
    ...{ name: 'p', equipmentIds: [], trigger: { kind: 'change' }, shape: flatJsonSettings, topic: 'works/{path}', destinationId: SOURCE },
    ...{ tags: { folder: '', text: '', ...tags }, ...part },
  })
const found = (findings: readonly Finding[], severity: Finding['severity']) => findings.filter((f) => f.severity === severity).map((f) => f.message)

describe('tags without equipment', () => {
  it.each<[Partial<TagPick>, string[]]>([
    [{ folder: 'Dryer' }, ['Dryer/Fan/speed', 'Dryer/temperature', 'Dryer/Zone 1/moisture', 'Dryer/Zone 1/Moisture']],
    [{ folder: 'Dryer/Zone 1' }, ['Dryer/Zone 1/moisture', 'Dryer/Zone 1/Moisture']],
    [{ text: 'TEMPER' }, ['Dryer/temperature', 'Dryers/temperature']],
    [{ folder: 'Dryer', text: 'speed' }, ['Dryer/Fan/speed']],
    [{ folder: 'dryer' }, []],
  ])('%j are these', (pick, names) => {
    expect(all.filter((t) => isPicked({ folder: '', text: '', ...pick }, t)).map((t) => t.name)).toEqual(names)
  })

  it('stand together by their folders, those without one too', () => {
    expect([...pickedFolders({ folder: '', text: '' }, all)].map(([folder, tags]) => [folder, tags.length])).toEqual([
      ['', 1],
      ['Dryer', 1],
      ['Dryer/Fan', 1],
      ['Dryer/Zone 1', 2],
      ['Dryers', 1],
      ['Kiln', 1],
    ])
  })

  it('go out a message a folder, each tag with its own name, unit, range and deadband', () => {
    const { body, findings } = compile(draft({ folder: 'Dryer' }), world)
    expect(found(findings, 'stops')).toEqual([])
    expect(body.messages.map((m) => m.place)).toEqual(['works/dryer', 'works/dryer/fan', 'works/dryer/zone-1'])
    const [dryer, fan, zone] = body.equipment
    expect(dryer!.members).toMatchObject([{ key: 'temperature', unit: '°C', range: { low: 0, high: 200 }, tag: 'Dryer/temperature' }])
    expect(fan!.members).toMatchObject([{ key: 'speed', unit: '1/min', fill: { kind: 'tag', handle: 0, width: 5 } }])
    // A key that two would have is each its own.
    expect(zone!.members.map((m) => m.key).sort()).toEqual(['Moisture', 'moisture'])
    expect(new Set(body.equipment.map((e) => e.id)).size).toBe(3)
  })

  it('have names that a payload can hold', () => {
    const odd = ['a/ö', 'a/2 gas', 'a/ä b-c', 'a/a_b_c', 'a/a b c', 'a/%%'].map((name) => tag(name))
    const { body } = compile(draft({}), { ...world, tags: new Map(odd.map((t) => [t.id, t])) })
    const keys = body.equipment[0]!.members.map((m) => m.key)
    expect(new Set(keys).size).toBe(keys.length)
    for (const key of keys) expect(key).toMatch(/^[A-Za-z_][A-Za-z0-9_]*$/)
    expect(keys).toContain('_2_gas')
  })

  it('a topic of its own for each, where the shape has a message for each', () => {
    const { body, findings } = compile(
      draft({ folder: 'Dryer' }, { topic: 'works/{tag}', topicRule: 'dashes', shape: { kind: 'value' } as never }),
      world,
    )
    expect(found(findings, 'stops')).toEqual([])
    expect(body.messages).toHaveLength(4)
  })

  it('levels of the plant mean nothing for them, and that is said', () => {
    expect(found(compile(draft({ folder: 'Dryer' }, { topic: '{site}/{unit}' }), world).findings, 'stops')[0]).toContain('{site} means nothing')
  })

  it('none, or none that is measured, is said', () => {
    expect(found(compile(draft({ folder: 'Press' }), world).findings, 'stops')).toContain('No tag is called so')
    expect(found(compile(draft({ folder: 'Kiln' }), world).findings, 'warns')[0]).toContain('Simulated, not measured: Kiln/2 gas flow')
  })
})
