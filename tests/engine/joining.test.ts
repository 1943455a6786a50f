import { afterAll, beforeAll, expect, it } from 'vitest'
import type { Equipment } from '~/contract/equipment'
import { newId } from '~/contract/id'
import type { PublicationDraft } from '~/contract/publication'
import { listEquipment } from '~/store/equipment'
import { changeEquipment, editEquipment } from '~/store/equipment-edit'
import { freeze } from '~/store/freeze'
import { goLive, setRunning } from '~/store/going-live'
import { getPublication, planOf } from '~/store/publication'
import { addPublication, changePublication } from '~/store/publication-edit'
import { listVersions } from '~/store/version'
import { scene } from './scene'
import { until } from './support'

// Equipment that comes to be as a rule says, and publications that take it by themselves.

let s: Awaited<ReturnType<typeof scene>>
let zone: Equipment
let still: () => void
beforeAll(async () => {
  s = await scene({ zones: 3 })
  zone = (await listEquipment(s.t.db)).find((e) => e.name === 'Zone 1')!
  const draft = await draftOf(s.publicationId)
  await changePublication(s.t.db, s.publicationId, { ...draft, rule: { classId: zone.classId!, joins: true } })
  await goLive(s.t.db, s.publicationId, 'test', freeze, {})
  still = s.feed(20)
})
afterAll(async () => {
  still()
  await s.end()
})

const draftOf = async (id: string): Promise<PublicationDraft> => {
  const { id: _i, version: _v, state: _s, liveVersion: _l, editedSinceLive: _e, ...draft } = await getPublication(s.t.db, id)
  return draft
}
const number = async () => (await getPublication(s.t.db, s.publicationId)).liveVersion!
const live = async () => (await planOf(s.t.db, s.publicationId, await number()))!.equipment.map((e) => e.name)
const add = async (name: string) => {
  const id = newId()
  const { parentId, classId, bindings } = zone
  await editEquipment(s.t.db, { add: [{ id, name, parentId, level: 'work unit', classId, bindings }] } as never)
  return id
}
const told = async (code: string) => (await s.events(code)).map((e) => e.message)

it('what comes later joins, by itself, as a version that says so; under messages nothing is lost, doubled or disordered', async () => {
  await add('Zone 4')
  await until(async () => (await live()).includes('Zone 4'), 'the fourth to join')
  const [version] = await listVersions(s.t.db, s.publicationId)
  expect(version).toMatchObject({ number: 3, madeBy: 'Embrik', note: 'By its rule: Zone 4 joined', live: true })
  expect(await told('publication.joined')).toEqual(['Zone 4 joined by its rule: version 3'])
  await until(() => s.b.broker.truth.arrivals.some((a) => a.topic === 'varnmoor/one/zone-4'), 'its messages')
  expect((await getPublication(s.t.db, s.publicationId)).editedSinceLive).toBe(false)
})

it('what is so no more leaves', async () => {
  const four = (await listEquipment(s.t.db)).find((e) => e.name === 'Zone 4')!
  await editEquipment(s.t.db, { remove: [{ id: four.id }] } as never)
  await until(async () => !(await live()).includes('Zone 4'), 'the fourth to leave')
  expect((await listVersions(s.t.db, s.publicationId))[0]!.note).toBe('By its rule: Zone 4 left')
})

it('nobody joins while there are edits that are not live: they would go out unasked; once they are, all join', async () => {
  const draft = await draftOf(s.publicationId)
  await changePublication(s.t.db, s.publicationId, { ...draft, trigger: { kind: 'every', seconds: 1 } })
  const before = await number()
  await add('Zone 5')
  await until(async () => (await told('publication.joins-not')).length === 1, 'to be told')
  expect((await told('publication.joins-not'))[0]).toContain('Zone 5 joined by its rule, but not yet: it has edits that are not live')
  expect(await number()).toBe(before)
  await changePublication(s.t.db, s.publicationId, draft)
  await goLive(s.t.db, s.publicationId, 'test', freeze)
  expect(await live()).toContain('Zone 5')
})

it('nobody joins while others would be sent otherwise than now: that goes out when somebody says so', async () => {
  const before = await number()
  const two = (await listEquipment(s.t.db)).find((e) => e.name === 'Zone 2')!
  await changeEquipment(s.t.db, two.id, { ...two, bindings: zone.bindings } as never)
  await add('Zone 6')
  await until(async () => (await told('publication.joins-not')).some((m) => m.includes('Zone 2 would be sent otherwise')), 'to be told')
  expect(await number()).toBe(before)
  await goLive(s.t.db, s.publicationId, 'test', freeze)
  expect(await live()).toContain('Zone 6')
})

it('its further clauses take it with it; a publication that is paused takes it when it goes on', async () => {
  const draft = await draftOf(s.publicationId)
  const { id } = await addPublication(s.t.db, {
    ...draft,
    name: 'also',
    alsoOf: s.publicationId,
    address: { ...draft.address, topic: 'varnmoor/two/{unit}' } as never,
  })
  await goLive(s.t.db, s.publicationId, 'test', freeze)
  await setRunning(s.t.db, s.publicationId, false)
  const before = await number()
  await add('Zone 7')
  await setRunning(s.t.db, s.publicationId, true)
  await until(async () => (await number()) > before && (await live()).includes('Zone 7'), 'the seventh to join')
  const also = await getPublication(s.t.db, id)
  expect(also).toMatchObject({ state: 'live', liveVersion: await number() })
  expect((await planOf(s.t.db, id, also.liveVersion!))!.equipment.map((e) => e.name)).toContain('Zone 7')
  still()
  await s.settled()
  expect(s.counts()).toMatchObject({ missing: 0, doubled: 0, disordered: 0, altered: 0 })
})
