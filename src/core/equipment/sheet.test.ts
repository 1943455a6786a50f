import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { type Equipment, EquipmentDraft } from '~/contract/equipment'
import { planEquipment, writeEquipment } from './sheet'

const uuid = (n: number) => `00000000-0000-7000-8000-${String(n).padStart(12, '0')}`
const one = (n: number, part: Partial<Equipment>): Equipment => ({
  ...EquipmentDraft.parse({ name: `E${n}`, parentId: null, level: 'enterprise' }),
  id: uuid(n),
  version: 1,
  ...part,
})
const model = {
  equipment: new Map(
    [
      one(1, { name: 'Varnmoor' }),
      one(2, { name: 'Lower Pit', parentId: uuid(1), level: 'site' }),
      one(3, {
        name: 'Dryer 1',
        parentId: uuid(2),
        level: 'work centre',
        classId: uuid(50),
        facts: { serial: 'VC-1', year: 2011 },
        externalIds: { desk: 'D-1' },
      }),
    ].map((e) => [e.id, e]),
  ),
  classes: new Map([[uuid(50), { id: uuid(50), name: 'Dryer Chamber' }]]),
}

describe('equipment as a table', () => {
  it('what is written reads as unchanged', () => {
    const plan = planEquipment(writeEquipment(model), model)
    expect(plan.counts).toEqual({ add: 0, change: 0, same: 3, faulty: 0 })
    expect(plan.ignored).toEqual([])
  })

  it('adds, with what stands above coming first, and changes only what is given', () => {
    const plan = planEquipment(
      [
        'under;name;level;class;fact: serial;comment',
        'Varnmoor / Lower Pit;Drying;area;;;x',
        'Varnmoor / Lower Pit/Drying;Dryer 2;work centre;dryer chamber;007;',
        'Varnmoor / Lower Pit;Dryer 1;;Dryer Chamber;VC-9;',
      ].join('\n'),
      model,
    )
    expect(plan.counts).toEqual({ add: 2, change: 1, same: 0, faulty: 0 })
    expect(plan.ignored).toEqual(['comment'])
    const [area, dryer] = plan.edit.add!
    expect(dryer).toMatchObject({ parentId: area!.id, classId: uuid(50), facts: { serial: '007' } })
    expect(plan.rows[2]!.changes).toEqual([{ column: 'fact: serial', old: 'VC-1', new: 'VC-9' }])
    expect(plan.edit.change![0]).toMatchObject({ id: uuid(3), facts: { serial: 'VC-9', year: 2011 }, externalIds: { desk: 'D-1' } })
  })

  it('renames by id', () => {
    const plan = planEquipment(`name,under,equipment_id\nDryer One,Varnmoor / Lower Pit,${uuid(3)}`, model)
    expect(plan.rows[0]).toMatchObject({ state: 'change', changes: [{ column: 'name', old: 'Dryer 1', new: 'Dryer One' }] })
  })

  it.each([
    ['under,name\nNowhere,X', 'under', 'No equipment stands there'],
    ['under,name,level\nVarnmoor,X,area 51', 'level', 'One of enterprise'],
    ['name,level\nX,site', 'level', 'Only an enterprise stands at the top'],
    ['under,name,level\nVarnmoor,X,enterprise', 'level', 'An enterprise cannot stand under Varnmoor'],
    ['under,name,level,class\nVarnmoor,X,site,Boat', 'class', 'There is no such class'],
    ['under,name,level\nVarnmoor,,site', 'name', 'Give it a name'],
    ['under,name,level\nVarnmoor,X,site\nVarnmoor,X,site', 'name', 'The same place and name'],
  ])('%j is refused with its column', (text, column, reason) => {
    const plan = planEquipment(text, model)
    const bad = plan.rows.find((r) => r.state === 'faulty')!
    expect(bad.faults[0]).toMatchObject({ column, reason: expect.stringContaining(reason) })
  })

  it('is refused without names of columns', () => expect(() => planEquipment('a,b\n1,2', model)).toThrow('names of the columns'))

  it('takes a separator of lines in a heading for part of the name', () => {
    const plan = planEquipment(`name,under,equipment_id,"fact: a\u2028b"\nDryer 1,Varnmoor / Lower Pit,${uuid(3)},x`, model)
    expect(plan.edit.change?.[0]?.facts).toMatchObject({ 'a\u2028b': 'x' })
  })

  it('carries any facts there and back', () => {
    const text = fc
      .string({ unit: 'grapheme', minLength: 1, maxLength: 30 })
      .map((s) => s.trim())
      .filter((s) => s !== '' && !/\p{Cc}/u.test(s))
    fc.assert(
      fc.property(
        fc.dictionary(
          text.filter((s) => s !== '__proto__'),
          text,
          { maxKeys: 4 },
        ),
        (facts) => {
          const kept = new Map(model.equipment).set(uuid(3), one(3, { ...model.equipment.get(uuid(3))!, facts }))
          const bare = { ...model, equipment: new Map(model.equipment).set(uuid(3), one(3, { ...model.equipment.get(uuid(3))!, facts: {} })) }
          const plan = planEquipment(writeEquipment({ ...model, equipment: kept }), bare)
          const now = plan.edit.change?.find((c) => c.id === uuid(3))?.facts ?? {}
          expect(Object.fromEntries(Object.entries(now).map(([k, v]) => [k, String(v)]))).toEqual(facts)
        },
      ),
    )
  })
})
