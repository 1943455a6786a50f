import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { type Binding, type Equipment, EquipmentDraft, type Member } from '~/contract/equipment'
import { TagDraft } from '~/contract/tag'
import type { ClassLike } from './members'
import { Resolver } from './resolve'
import { takenIn } from './taken-in'

const uuid = (n: number) => `00000000-0000-7000-8000-${String(n).padStart(12, '0')}`
const COUNT = 8
const [inner, outer] = [uuid(101), uuid(102)]
const member = (id: string, part: Partial<Member> = {}) => ({
  ...{ id, key: id, label: id, description: '', required: true, many: false, classId: null, dataType: 'number' as const, unit: '' },
  ...{ range: null, allowed: null, calculation: null },
  ...part,
})
const classes = new Map<string, ClassLike>([
  [inner, { id: inner, name: 'Inner', extendsId: null, members: [member('a'), member('b')] }],
  [
    outer,
    {
      id: outer,
      name: 'Outer',
      extendsId: null,
      members: [member('c'), member('part', { classId: inner }), member('list', { classId: inner, many: true })],
    },
  ],
])
const place = fc.integer({ min: 0, max: COUNT - 1 })
const leaf: fc.Arbitrary<Binding> = fc.oneof(
  place.map((n): Binding => ({ kind: 'tag', tagId: uuid(n + 200) })),
  fc.tuple(place, fc.constantFrom('a', 'b', 'c')).map(([n, path]): Binding => ({ kind: 'member', equipmentId: uuid(n), path })),
  fc.tuple(place, place, fc.constantFrom('a', 'b', 'c')).map(
    ([tag, n, path]): Binding => ({
      kind: 'expression',
      expression: { text: 'x + y', inputs: { x: { kind: 'tag', tagId: uuid(tag + 200) }, y: { kind: 'member', equipmentId: uuid(n), path } } },
    }),
  ),
)
const one = fc.record(
  {
    classId: fc.constantFrom(inner, outer),
    parent: fc.option(place),
    bindings: fc.record(
      {
        a: leaf,
        b: leaf,
        c: leaf,
        'part/a': leaf,
        part: place.map((n): Binding => ({ kind: 'equipment', equipmentId: uuid(n) })),
        list: fc.constant<Binding>({ kind: 'below' }),
      },
      { requiredKeys: [] },
    ),
  },
  { requiredKeys: ['classId', 'parent', 'bindings'] },
)
const plant = fc.array(one, { minLength: COUNT, maxLength: COUNT }).map(
  (all) =>
    new Map(
      all.map(({ classId, parent, bindings }, n): [string, Equipment] => {
        // Only under one before it: a plant has no rings.
        const parentId = parent !== null && parent < n ? uuid(parent) : null
        const draft = { name: `E${n}`, level: 'work unit', parentId, classId, bindings: bindings as Record<string, Binding> }
        return [uuid(n), { ...EquipmentDraft.parse(draft), id: uuid(n), version: 1 }]
      }),
    ),
)
const tags = new Map(
  Array.from({ length: COUNT }, (_, n) => {
    const draft = TagDraft.parse({ name: `t${n}`, sourceId: uuid(999), address: 'x', dataType: 'number' })
    return [uuid(n + 200), { ...draft, id: uuid(n + 200), handle: n, version: 1 }]
  }),
)

/** The tags that bindings name, in what JSON says of them. */
const named = (of: readonly unknown[]) => new Set(JSON.stringify(of).match(/(?<="tagId":")[^"]+/g) ?? [])

describe('equipment that is taken in', () => {
  it('has every tag that an equipment needs to be resolved', () => {
    fc.assert(
      fc.property(plant, place, (equipment, n) => {
        const shown = equipment.get(uuid(n))!
        const needed = named([...takenIn(equipment, [shown.id])].map((id) => equipment.get(id)!.bindings))
        const few = new Map([...tags].filter(([id]) => needed.has(id)))
        const records = new Map<string, number>()
        const whole = new Resolver({ equipment, classes, tags, records }).leavesOf(shown)
        expect(new Resolver({ equipment, classes, tags: few, records }).leavesOf(shown)).toEqual(whole)
      }),
      { numRuns: 400 },
    )
  })

  it('ends where equipment takes in each other, and passes over what is gone', () => {
    const ring = (n: number, to: number): [string, Equipment] => {
      const bindings = { part: { kind: 'equipment' as const, equipmentId: uuid(to) } }
      return [
        uuid(n),
        { ...EquipmentDraft.parse({ name: 'R', level: 'work unit', parentId: null, classId: outer, bindings }), id: uuid(n), version: 1 },
      ]
    }
    expect([...takenIn(new Map([ring(1, 2), ring(2, 1), ring(3, 9)]), [uuid(1), uuid(3), uuid(8)])].sort()).toEqual([1, 2, 3].map(uuid))
  })
})
