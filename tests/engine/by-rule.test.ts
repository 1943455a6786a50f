import { afterAll, beforeAll, expect, it } from 'vitest'
import { newId } from '~/contract/id'
import { flatJsonSettings } from '~/contract/shape'
import { overMqtt } from '~/core/publication/over-mqtt'
import { listEquipment } from '~/store/equipment'
import { editEquipment } from '~/store/equipment-edit'
import { freeze } from '~/store/freeze'
import { goLive } from '~/store/going-live'
import { getPublication, planOf } from '~/store/publication'
import { addPublication } from '~/store/publication-edit'
import { tagUse } from '~/store/tag'
import { scene } from './scene'

let s: Awaited<ReturnType<typeof scene>>
beforeAll(async () => {
  s = await scene({ zones: 3, still: true })
})
afterAll(() => s.end())

it('each go-live is for what the rule says then: what came later joins, what went leaves, and it stands in who uses what', async () => {
  const { db } = s.t
  const [zone] = (await listEquipment(db)).filter((e) => e.classId !== null)
  const rule = { classId: zone!.classId! }
  const draft = {
    name: 'all zones',
    equipmentIds: [zone!.id],
    rule,
    trigger: { kind: 'change' as const },
    shape: flatJsonSettings,
    topic: 'rule/{unit}',
  }
  const { id } = await addPublication(db, overMqtt({ ...draft, destinationId: s.destinationId }))
  const names = async (number: number) => (await planOf(db, id, number))!.equipment.map((e) => e.name)

  await goLive(db, id, 'test', freeze)
  expect(await names(1)).toEqual(['Zone 1', 'Zone 2', 'Zone 3'])
  expect((await getPublication(db, id)).equipmentIds).toHaveLength(3)
  // What a rule added is no edit of anybody.
  expect((await getPublication(db, id)).editedSinceLive).toBe(false)

  const another = newId()
  const binding = Object.values(zone!.bindings)[0]!
  await editEquipment(db, {
    add: [{ id: another, name: 'Zone 10', parentId: zone!.parentId, level: 'work unit', classId: zone!.classId, bindings: { m0: binding } }],
  } as never)
  // One that has nothing to say yet keeps nobody else from it.
  const bare = { id: newId(), name: 'Zone 11', parentId: zone!.parentId, level: 'work unit', classId: zone!.classId }
  await editEquipment(db, { add: [bare] } as never)
  expect((await getPublication(db, id)).equipmentIds).not.toContain(another)
  await goLive(db, id, 'test', freeze)
  expect(await names(2)).toEqual(['Zone 1', 'Zone 2', 'Zone 3', 'Zone 10'])
  expect((await getPublication(db, id)).equipmentIds).toContain(another)
  const [tag] = await db.selectFrom('tag').select('id').limit(1).execute()
  expect(JSON.stringify(await tagUse(db, tag!.id))).toContain('all zones')
})

it('what a rule chose may be removed: it is sent as it was until the next go-live, and leaves then', async () => {
  const { db } = s.t
  const ten = (await listEquipment(db)).find((e) => e.name === 'Zone 10')!
  await editEquipment(db, { remove: [{ id: ten.id }] } as never)
  const [{ id }] = (await db.selectFrom('publication').select('id').where('name', '=', 'all zones').execute()) as [{ id: string }]
  await goLive(db, id, 'test', freeze)
  expect((await planOf(db, id, 3))!.equipment.map((e) => e.name)).toEqual(['Zone 1', 'Zone 2', 'Zone 3'])
  // What somebody listed by hand is taken out there first.
  const one = (await listEquipment(db)).find((e) => e.name === 'Zone 1')!
  await expect(editEquipment(db, { remove: [{ id: one.id }] } as never)).rejects.toThrow()
})

it('a rule that is for nothing is refused at the go-live', async () => {
  const { db } = s.t
  const [zone] = (await listEquipment(db)).filter((e) => e.classId !== null)
  const rule = { fact: { name: 'fuel', value: 'coal' } }
  const draft = { name: 'coal', equipmentIds: [zone!.id], rule, trigger: { kind: 'change' as const }, shape: flatJsonSettings, topic: 'coal/{unit}' }
  const { id } = await addPublication(db, overMqtt({ ...draft, destinationId: s.destinationId }))
  await expect(goLive(db, id, 'test', freeze)).rejects.toMatchObject({ failure: { fields: { what: expect.stringContaining('as the rule says') } } })
})
