import Ajv from 'ajv/dist/2020'
import { describe, expect, it } from 'vitest'
import { ClassDraft, type Equipment, EquipmentDraft, type MemberInput } from '~/contract/equipment'
import { type Tag, TagDraft, type TagInput } from '~/contract/tag'
import { fillParts, parseTemplate } from '../address/template'
import { classChanges } from './class-diff'
import { classSchema, readClassSchema } from './class-schema'
import { coverageOf, rollUp } from './coverage'
import { fromFolder } from './from-folders'
import type { ClassLike } from './members'
import { matchNaming, NameIndex, parseNaming, plainName } from './naming'
import { numberedNames } from './numbered'
import { ProposalIndex, propose } from './propose'
import { Resolver } from './resolve'

const uuid = (n: number) => `00000000-0000-7000-8000-${String(n).padStart(12, '0')}`
const tag = (name: string, handle: number, part: Partial<TagInput> = {}): Tag => ({
  ...TagDraft.parse({ name, sourceId: uuid(999), address: name, dataType: 'number', ...part }),
  id: uuid(1000 + handle),
  handle,
  version: 1,
})
const value = (key: string, part: Partial<MemberInput> = {}): MemberInput => ({ id: key.toLowerCase(), key, label: key, ...part })
const cls = (id: number, name: string, members: MemberInput[], extendsId: string | null = null): ClassLike => ({
  id: uuid(id),
  name,
  ...(({ members: m, extendsId: x }) => ({ members: m, extendsId: x }))(ClassDraft.parse({ name, members, extendsId })),
})
const equipment = (n: number, name: string, classId: string | null, part: Partial<Equipment> = {}): Equipment => ({
  ...EquipmentDraft.parse({ name, parentId: null, level: 'work unit', classId }),
  id: uuid(100 + n),
  version: 1,
  ...part,
})
function finish<T>(steps: Generator<unknown, T>): T {
  for (;;) {
    const step = steps.next()
    if (step.done) return step.value
  }
}

describe('templates', () => {
  const parse = (t: string) => parseTemplate(t, (k) => ['name', 'serial'].includes(k), '{name} {serial}')
  const fill = (t: string) => fillParts(parse(t).parts, (k) => (k === 'name' ? 'Dryer Chamber 7' : ''))
  it.each([
    ['{name|lower}', 'dryer chamber 7'],
    ['{name|upper}', 'DRYER CHAMBER 7'],
    ['{name|slug}', 'dryer-chamber-7'],
    ["{name|replace(' ', '_')}", 'Dryer_Chamber_7'],
    ['{name|number|pad(2)}', '07'],
    ["{serial|default('none')}", 'none'],
    ['{name | replace(" ", "") | lower}!', 'dryerchamber7!'],
    ["{name|replace('Chamber', 'a|b')}", 'Dryer a|b 7'],
  ])('%s is %s', (template, wanted) => expect(fill(template)).toEqual({ text: wanted, missing: null }))
  it('says what is missing and what is wrong, and where', () => {
    expect(fill('x/{serial}').missing).toBe('serial')
    expect(parse('{other}').problems).toEqual([{ at: 0, message: '{other} is not known; there are {name} {serial}' }])
    expect(parse('a {name|loud}').problems[0]).toMatchObject({ at: 2, message: expect.stringContaining('loud is no filter') })
    expect(parse('{name|pad}').problems[0]!.message).toContain('takes 1 argument')
    expect(parse('{name').problems[0]!.message).toContain('A lone {')
  })
})

describe('numbered names', () => {
  it.each([
    ['Dryer Chamber {1..3}', ['Dryer Chamber 1', 'Dryer Chamber 2', 'Dryer Chamber 3']],
    ['Zone {09..11}', ['Zone 09', 'Zone 10', 'Zone 11']],
    ['Cell {A..B}{1..2}', ['Cell A1', 'Cell A2', 'Cell B1', 'Cell B2']],
    ['Kiln', ['Kiln']],
  ])('%s', (pattern, names) => expect(numberedNames(pattern)).toEqual({ names }))
  it.each([
    ['', 'Give it a name'],
    ['{6..1}', '6..1 goes backwards'],
    ['{1..99999}', 'more than 10,000'],
    ['{x}', '{x} is no range'],
    ['a {1..2', 'A range is written'],
  ])('%s is refused', (pattern, words) => expect((numberedNames(pattern) as { problem: string }).problem).toContain(words))
})

const chamber = cls(1, 'Dryer Chamber', [
  value('dryBulb', { label: 'Dry bulb', unit: '°C', range: { low: 0, high: 130 } }),
  value('fanSpeed', { label: 'Fan speed', unit: '%' }),
  value('alarm', { label: 'Alarm', dataType: 'boolean' }),
])
const chambers = [1, 2].map((n) => equipment(n, `Dryer Chamber ${n}`, chamber.id))
const tags = [
  tag('Dryer 1/dry bulb', 1, { unit: '°C', range: { low: 0, high: 130 } }),
  tag('Dryer 1/fan speed', 2, { unit: '%' }),
  tag('Dryer 1/alarm', 3, { dataType: 'boolean' }),
  tag('Dryer 2/dryBulb', 4, { unit: '°F' }),
  tag('Dryer 2/fan_spd', 5, { unit: '%' }),
  tag('Old/Dryer 2/alarm', 6, { dataType: 'boolean' }),
  tag('Dryer 2/alarm', 7, { dataType: 'boolean' }),
  tag('Zone 2/temperature', 8, { unit: '°C' }),
]
const resolver = () =>
  new Resolver({
    classes: new Map([[chamber.id, chamber]]),
    equipment: new Map(chambers.map((e) => [e.id, e])),
    tags: new Map(tags.map((t) => [t.id, t])),
    records: new Map(),
  })
const names = (ids: readonly string[]) => ids.map((i) => tags.find((t) => t.id === i)!.name)

describe('binding by a naming pattern', () => {
  const look = (pattern: string) => finish(matchNaming(parseNaming(pattern), chambers, resolver(), new NameIndex(tags)))
  it('shows hits, misses and several hits before anything is written', () => {
    expect(look('Dryer {name|number}/{member}').map((h) => [h.wanted, names(h.tagIds)])).toEqual([
      ['Dryer 1/Dry bulb', ['Dryer 1/dry bulb']],
      ['Dryer 1/Fan speed', ['Dryer 1/fan speed']],
      ['Dryer 1/Alarm', ['Dryer 1/alarm']],
      ['Dryer 2/Dry bulb', ['Dryer 2/dryBulb']],
      ['Dryer 2/Fan speed', []],
      ['Dryer 2/Alarm', ['Dryer 2/alarm']],
    ])
    expect(names(look('*Dryer {name|number}/{member}')[5]!.tagIds).sort()).toEqual(['Dryer 2/alarm', 'Old/Dryer 2/alarm'])
    expect(names(look('Dryer {name|number}/fan*')[4]!.tagIds)).toEqual(['Dryer 2/fan_spd'])
    expect(look('{fact.serial}/{member}')[0]).toMatchObject({ tagIds: [], wanted: '{fact.serial} is empty' })
  })
  it('finds by stars what a plain look through all would find', () => {
    const index = new NameIndex(tags)
    for (const pattern of ['*', 'dryer*', '*alarm', '*2*', 'dryer 1/*', '*dryer*alarm', 'a*b']) {
      const re = new RegExp(`^${plainName(pattern.replaceAll('*', 'STAR')).replaceAll('star', '.*').replaceAll(' .*', '.*')}$`)
      const slow = tags.filter((t) => re.test(plainName(t.name))).map((t) => t.id)
      expect([...index.find(pattern)].sort(), pattern).toEqual(slow.sort())
    }
  })
})

describe('proposals', () => {
  const made = finish(propose(chambers, resolver(), new ProposalIndex(tags)))
  const of = (n: number, path: string) => made.find((p) => p.equipmentId === uuid(100 + n) && p.path === path)!
  it('the right tag wins, with its reasons', () => {
    expect(names([of(1, 'drybulb').tagId])).toEqual(['Dryer 1/dry bulb'])
    expect(of(1, 'drybulb').score).toBeGreaterThan(80)
    expect(names([of(2, 'fanspeed').tagId])).toEqual(['Dryer 2/fan_spd'])
    expect(of(2, 'fanspeed').reasons).toContain('same unit %')
    expect(of(2, 'drybulb').reasons).toContain('°F becomes °C')
    expect(of(2, 'alarm').score).toBeGreaterThan(of(2, 'fanspeed').score)
  })
  it('no tag is proposed twice for one equipment, and other numbers not at all', () => {
    expect(new Set(made.map((p) => p.equipmentId + p.tagId)).size).toBe(made.length)
    expect(names(made.map((p) => p.tagId)).filter((n) => n.startsWith('Zone'))).toEqual([])
  })
  it('several a member are there to choose from, the best first', () => {
    const more = finish(propose([chambers[1]!], resolver(), new ProposalIndex(tags), 3)).filter((p) => p.path === 'alarm')
    expect(more.length).toBeGreaterThan(1)
    expect(more[0]!.score).toBeGreaterThanOrEqual(more[1]!.score)
  })
})

describe('a branch of tags', () => {
  it('proposes a class and the equipment of its build', () => {
    const p = fromFolder('Dryer 1', tags)!
    expect(p.cls.name).toBe('Dryer')
    expect(p.cls.members.map((m) => [m.key, m.label, m.unit])).toEqual([
      ['dryBulb', 'Dry bulb', '°C'],
      ['fanSpeed', 'Fan speed', '%'],
      ['alarm', 'Alarm', ''],
    ])
    expect(p.equipment.map((e) => [e.name, e.missing, e.extra])).toEqual([
      ['Dryer 1', [], []],
      ['Dryer 2', ['Fan speed'], ['fan_spd']],
    ])
    expect(fromFolder('Nothing', tags)).toBeNull()
  })
})

describe('coverage', () => {
  it('counts states, and quality rolls up to the top', () => {
    const site = equipment(50, 'Site', null, { level: 'site' })
    const one = equipment(51, 'Dryer 1', chamber.id, {
      parentId: site.id,
      bindings: {
        drybulb: { kind: 'tag', tagId: tags[0]!.id },
        fanspeed: { kind: 'tag', tagId: tags[7]!.id },
        alarm: { kind: 'tag', tagId: tags[2]!.id },
      },
    })
    const two = equipment(52, 'Dryer 2', chamber.id, { parentId: site.id })
    const all = new Map([site, one, two].map((e) => [e.id, e]))
    const r = new Resolver({
      classes: new Map([[chamber.id, chamber]]),
      equipment: all,
      tags: new Map(tags.map((t) => [t.id, t])),
      records: new Map(),
    })
    const status = (h: number) => (h === 3 ? 0x408f0000 : 0)
    const first = coverageOf(r, one, status)
    expect(first).toEqual({ counts: { missing: 0, open: 0, broken: 0, mismatch: 1, good: 1, uncertain: 1, bad: 0 }, quality: 'uncertain' })
    const second = coverageOf(r, two, status)
    expect(second).toMatchObject({ counts: { missing: 3 }, quality: 'bad' })
    expect(coverageOf(r, site, status).quality).toBeNull()
    expect(
      rollUp(
        all,
        new Map([
          [one.id, first.quality],
          [two.id, second.quality],
        ]),
      ).get(site.id),
    ).toBe('bad')
    expect(rollUp(all, new Map([[one.id, first.quality]])).get(site.id)).toBe('uncertain')
  })
})

describe('states of a class', () => {
  const draft = (members: MemberInput[]) => ClassDraft.parse({ name: 'C', members })
  it.each([
    ['a renamed key', [value('a')], [value('a', { key: 'b' })], ['a is b in payloads, before a', 'receivers']],
    ['a removed one', [value('a')], [], ['a is gone', 'receivers']],
    ['a new one', [], [value('a')], ['a is new and required: nothing fills it yet', 'equipment']],
    ['a new optional one', [], [value('a', { required: false })], ['a is new', null]],
    ['another unit', [value('a', { unit: 'bar' })], [value('a', { unit: 'kPa' })], ['a in kPa, before in bar', 'receivers']],
    ['a narrower type', [value('a')], [value('a', { dataType: 'integer' })], ['a a integer, before a number', null]],
    [
      'a wider range',
      [value('a', { range: { low: 0, high: 1 } })],
      [value('a', { range: { low: 0, high: 2 } })],
      ['a range 0 to 2, before 0 to 1', 'receivers'],
    ],
    ['more allowed', [value('a', { allowed: [1] })], [value('a', { allowed: [1, 2] })], ['a allowed: 1, 2, before 1', 'receivers']],
    ['no longer required', [value('a')], [value('a', { required: false })], ['a required: no, before yes', 'receivers']],
    ['another name for people', [value('a')], [value('a', { label: 'Alpha' })], ['Alpha called so, before a', null]],
  ])('%s', (_, before, after, [text, breaks]) => {
    expect(classChanges(draft(before), draft(after)).map((c) => [`${c.member} ${c.text}`, c.breaks])).toEqual([[text, breaks]])
  })
  it('the same is no change', () => expect(classChanges(draft([value('a')]), draft([value('a')]))).toEqual([]))
})

describe('JSON Schema', () => {
  const machine = cls(11, 'Machine', [value('running', { dataType: 'boolean' })])
  const probe = cls(12, 'Probe', [
    value('temperature', { unit: '°C', range: { low: -40, high: 200 } }),
    value('since', { dataType: 'time', required: false }),
  ])
  const kiln = cls(
    13,
    'Tunnel Kiln',
    [
      value('zones', { classId: probe.id, many: true }),
      value('curve', { dataType: 'text', allowed: ['A', 'B'], description: 'Firing curve' }),
      value('cars', { dataType: 'integer' }),
    ],
    machine.id,
  )
  const classes = new Map([machine, probe, kiln].map((c) => [c.id, c]))
  const schema = classSchema(kiln, classes)

  it('is a schema that accepts what equipment is, and refuses what it is not', () => {
    const ajv = new Ajv({ strict: false, formats: { 'date-time': true } })
    const valid = ajv.compile(schema)
    const good = { running: true, zones: [{ temperature: 20 }], curve: 'A', cars: 3 }
    expect(valid(good)).toBe(true)
    for (const bad of [
      { ...good, running: undefined },
      { ...good, cars: 1.5 },
      { ...good, curve: 'C' },
      { ...good, zones: [{ temperature: 300 }] },
    ])
      expect(valid(JSON.parse(JSON.stringify(bad)))).toBe(false)
    expect(JSON.stringify(schema)).toContain('"x-unit":"°C","x-unit-ucum":"Cel","x-unit-cefact":"CEL"')
  })

  it('comes back as the same classes', () => {
    const { classes: read, remarks } = readClassSchema(JSON.stringify(schema))
    expect(remarks).toEqual([])
    expect(read.map((c) => c.name)).toEqual(['Machine', 'Probe', 'Tunnel Kiln'])
    const back = ClassDraft.parse(read[2])
    expect(back.extendsId).toBe(read[0]!.id)
    expect(back.members).toEqual(kiln.members.map((m) => ({ ...m, classId: m.classId ? read[1]!.id : null })))
    expect(ClassDraft.parse(read[1]).members).toEqual(probe.members)
  })

  it('tells what it cannot take over', () => {
    const { classes: read, remarks } = readClassSchema(
      JSON.stringify({ title: 'X', properties: { 'Gas-Flow': { type: ['number', 'null'] }, any: {} }, oneOf: [] }),
    )
    expect(read[0]!.members.map((m) => [m.key, m.dataType])).toEqual([
      ['gasFlow', 'number'],
      ['any', 'text'],
    ])
    expect(remarks).toEqual([
      'X: oneOf has no counterpart and is left out',
      'Gas-Flow is called gasFlow: names in payloads are letters and digits',
      'any: no type is given, so it is taken as text',
    ])
  })
  it.each([
    ['{', 'This is no JSON'],
    ['[]', 'A JSON Schema is an object'],
    ['{"type":"string"}', 'describes no object'],
    ['{"properties":{"a":{"$ref":"https://x"}}}', 'leads nowhere'],
    ['{"properties":{"a":{"$ref":"#"}}}', 'never ends'],
  ])('%s is refused', (text, words) => expect(() => readClassSchema(text)).toThrow(words))
})
