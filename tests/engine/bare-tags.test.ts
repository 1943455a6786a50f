import { afterAll, beforeAll, expect, it } from 'vitest'
import { flatJsonSettings } from '~/contract/shape'
import { overMqtt } from '~/core/publication/over-mqtt'
import { freeze } from '~/store/freeze'
import { goLive, setRunning } from '~/store/going-live'
import { getPublication, planOf } from '~/store/publication'
import { addPublication, changePublication } from '~/store/publication-edit'
import { sourceUse } from '~/store/source'
import { tagUse, usedTags } from '~/store/tag'
import { addTags } from '~/store/tag-edit'
import { scene } from './scene'
import { until } from './support'

// Tags that go out without equipment.

let s: Awaited<ReturnType<typeof scene>>
let id: string
beforeAll(async () => {
  s = await scene({ zones: 2 })
  await setRunning(s.t.db, s.publicationId, false)
})
afterAll(() => s.end())

const draft = (part: object = {}) =>
  overMqtt({
    ...{
      name: 'bare',
      equipmentIds: [],
      trigger: { kind: 'change' },
      shape: flatJsonSettings,
      topic: 'varnmoor/bare/{path}',
      destinationId: s.destinationId,
    },
    ...{ tags: { folder: '', text: 'zone' }, ...part },
  })
const topics = () => new Set(s.b.broker.truth.arrivals.map((a) => a.topic).filter((t) => t.startsWith('varnmoor/bare/')))

it('go out by their folders, each message accounted for', async () => {
  // What was chosen of equipment before is not kept beside them.
  const made = await addPublication(s.t.db, draft({ equipmentIds: s.equipmentIds, rule: {} }))
  id = made.id
  expect([made.equipmentIds, made.rule]).toEqual([[], undefined])
  await goLive(s.t.db, id, 'test', freeze)
  const still = s.feed(20)
  await until(() => (s.counts(id)?.arrived ?? 0) > 40, 'messages to arrive')
  still()
  await s.settled(60, id)
  expect(s.counts(id)).toMatchObject({ arrived: s.counts(id)!.produced, missing: 0, doubled: 0, disordered: 0 })
  expect(topics()).toEqual(new Set(['varnmoor/bare/zone-1', 'varnmoor/bare/zone-2']))
})

it('stand in who uses what: of a tag, and of its source', async () => {
  const tag = await s.t.db.selectFrom('tag').select(['id', 'source_id as sourceId']).where('name', '=', 'Zone 1/n').executeTakeFirstOrThrow()
  expect((await tagUse(s.t.db, tag.id)).publications.map((p) => p.name).sort()).toEqual(['bare', 'p'])
  expect((await sourceUse(s.t.db, tag.sourceId)).publications).toEqual([
    { name: 'bare', live: true },
    { name: 'p', live: false },
  ])
  const [lone] = await addTags(s.t.db, [
    { name: 'Press/force', sourceId: tag.sourceId, address: 'ns=1;s=f', dataType: 'number', unit: '', description: '', deadband: null },
  ])
  expect((await tagUse(s.t.db, lone!.id)).publications).toEqual([])
  expect(await usedTags(s.t.db)).not.toContain(lone!.handle)
  const { id: _i, version: _v, state: _s, liveVersion: _l, editedSinceLive: _e, ...rest } = await getPublication(s.t.db, id)
  await changePublication(s.t.db, id, { ...rest, tags: { folder: '', text: '' } })
  expect((await tagUse(s.t.db, lone!.id)).publications.map((p) => p.name)).toEqual(['bare'])
  expect(await usedTags(s.t.db)).toContain(lone!.handle)
})

it('what is called so later joins with the next go-live', async () => {
  await goLive(s.t.db, id, 'test', freeze)
  expect((await planOf(s.t.db, id, 2))!.equipment.map((e) => e.name)).toEqual(['Press', 'Zone 1', 'Zone 2'])
})

it('nothing at all is refused, and so is what no tag is called', async () => {
  const { tags: _t, ...none } = draft({ name: 'none' })
  await expect(addPublication(s.t.db, none)).rejects.toMatchObject({ failure: { fields: { equipmentIds: 'Choose at least one equipment' } } })
  const empty = await addPublication(s.t.db, draft({ name: 'empty', tags: { folder: 'Kiln', text: '' } }))
  await expect(goLive(s.t.db, empty.id, 'test', freeze)).rejects.toMatchObject({ failure: { fields: { what: 'No tag is called so' } } })
})
