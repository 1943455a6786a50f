// A publication that goes ahead of what waits: by a connection and an outbox of its own, whatever the destination.
import { afterAll, beforeAll, expect, it } from 'vitest'
import type { PublicationDraft } from '~/contract/publication'
import { messageId } from '~/core/delivery/envelope'
import { Engine } from '~/engine/engine'
import { changeDestination, getDestination, removeDestination } from '~/store/destination'
import { freeze } from '~/store/freeze'
import { goBack, goLive, setRunning } from '~/store/going-live'
import { listLanes } from '~/store/lane'
import { installationCode } from '~/store/person'
import { getPublication } from '~/store/publication'
import { changePublication } from '~/store/publication-edit'
import { judged } from './lines'
import { zonesPlant } from './plant'
import { layRoads } from './roads'
import { folder, freshDatabase, until } from './support'

const ROADS = ['mqtt', 'http', 'stream'] as const

let t: Awaited<ReturnType<typeof freshDatabase>>
let laid: Awaited<ReturnType<typeof layRoads>>
let engine: Engine
let plant: Awaited<ReturnType<typeof zonesPlant>>
const usual = new Map<string, { id: string; delivery: number }>()
const ahead = new Map<string, { id: string; delivery: number }>()
let value = 0

const change = () => {
  value++
  const { handles } = plant
  engine.table.apply({ handles, values: handles.map(() => value), statuses: handles.map(() => 0), times: handles.map(() => Date.now()) })
}
const counts = (delivery: number) => engine.ledger.countsOf(delivery)!
const settled = (delivery: number, seconds = 120) =>
  until(
    () => judged(engine, delivery),
    () => `every verdict: ${JSON.stringify(counts(delivery))}`,
    seconds,
  )
const set = async (road: string, enabled: boolean, drainPerS = 0) => {
  const { id, version, publicationCount: _c, ...draft } = await getDestination(t.db, laid.roads.get(road)!.destinationId)
  await changeDestination(t.db, id, { ...draft, enabled, settings: { ...draft.settings, drainPerS } } as typeof draft, version)
}
const lanesOf = async (road: string) => (await listLanes(t.db)).filter((l) => (l.parentId ?? l.id) === laid.roads.get(road)!.destinationId)
const laneOf = (delivery: number) => engine.destinations.get(engine.publications.deliveries.find((d) => d.number === delivery)!.lane)!
const edited = async (id: string, part: Partial<PublicationDraft>) => {
  const { id: _i, version, state: _s, liveVersion: _l, editedSinceLive: _e, ...draft } = await getPublication(t.db, id)
  await changePublication(t.db, id, { ...draft, ...part }, version)
}

beforeAll(async () => {
  t = await freshDatabase()
  laid = await layRoads(t)
  plant = await zonesPlant(t.db, t.vault, 4)
  for (const road of ROADS) {
    usual.set(road, await laid.publish(road, 0, plant.equipmentIds))
    ahead.set(road, await laid.publish(road, 1, plant.equipmentIds, { trigger: { kind: 'hand' }, ahead: true }))
  }
  engine = new Engine({ db: t.db, url: t.url, vault: t.vault, workFolder: folder('ahead') })
  await engine.start()
  await until(() => [...usual.values(), ...ahead.values()].every(({ id }) => engine.publications.running.has(id)), 'all to run')
  await until(
    () => [...engine.destinations.values()].every((d) => d.present().state === 'running' || d.destination.parentId === null),
    'all to be connected',
  )
  change()
}, 120_000)
afterAll(async () => {
  await engine.stop()
  await laid.stop()
  await t.drop()
})

it.each(ROADS)('over %s, what waited does not hold it up, and both are accounted for, each by itself', async (road) => {
  const [bulk, urgent] = [usual.get(road)!, ahead.get(road)!]
  await settled(bulk.delivery)
  expect((await lanesOf(road)).map(({ ahead: a, node }) => [a, node])).toEqual([
    [false, ''],
    [true, ''],
  ])
  expect(laneOf(urgent.delivery)).not.toBe(laneOf(bulk.delivery))
  await set(road, false)
  await until(() => [bulk, urgent].every((p) => laneOf(p.delivery).present().state === 'off'), 'both to be off')
  for (let i = 0; i < 300; i++) change()
  await engine.publications.say(urgent.id, 1)
  await until(() => laneOf(bulk.delivery).outbox.onDisk >= 1200 && laneOf(urgent.delivery).outbox.onDisk === 4, 'all to wait')
  await set(road, true, 100)
  await settled(urgent.delivery)
  // 1,200 at a hundred a second take twelve.
  expect(laneOf(bulk.delivery).outbox.waiting).toBeGreaterThan(200)
  expect(counts(urgent.delivery)).toMatchObject({ produced: 4, arrived: 4, missing: 0, doubled: 0, unknown: 0 })
  await settled(bulk.delivery)
  expect(counts(bulk.delivery)).toMatchObject({ missing: 0, doubled: 0, dropped: 0, unknown: 0 })
  const installation = await installationCode(t.db)
  const copies = await laid.roads.get(road)!.copies()
  for (const { delivery } of [bulk, urgent])
    for (let seq = 1; seq <= counts(delivery).produced; seq++) expect(copies.get(messageId(installation, delivery, seq))).toBe(1)
})

it('another version goes with the others again, and back; nothing is lost or doubled on either way', async () => {
  const { id } = usual.get('mqtt')!
  const arrived = async () => {
    const installation = await installationCode(t.db)
    const own = engine.publications.deliveries.filter((d) => d.publicationId === id)
    for (const { number } of own) {
      await settled(number)
      const copies = await laid.roads.get('mqtt')!.copies()
      expect(counts(number)).toMatchObject({ missing: 0, doubled: 0, unknown: 0 })
      const at = (seq: number) => copies.get(messageId(installation, number, seq)) ?? 0
      const wrong = Array.from({ length: counts(number).produced }, (_, i) => i + 1).filter((seq) => at(seq) !== 1)
      expect(
        wrong.map((seq) => [number, seq, at(seq), engine.ledger.account(number).verdict(seq)]),
        JSON.stringify(counts(number)),
      ).toEqual([])
    }
    return own.length
  }
  const runs = (number: number) => until(() => engine.publications.running.get(id)?.plan.number === number, `version ${number}`)
  const feed = setInterval(change, 5)
  try {
    await edited(id, { ahead: true })
    await goLive(t.db, id, 'test', freeze)
    await runs(2)
    await goBack(t.db, id, 1, 'test')
    await runs(3)
    await goBack(t.db, id, 2, 'test')
    await runs(4)
  } finally {
    clearInterval(feed)
  }
  await until(async () => (await arrived()) === 2, 'all of it')
})

it('its trouble is told as that of its destination, by whose it is', async () => {
  laid.roads.get('http')!.gate!.cut(5)
  const { destinationId } = laid.roads.get('http')!
  await until(() => engine.destinationConditions()[destinationId]!.sender.state === 'trouble', 'the trouble')
  await until(() => engine.destinationConditions()[destinationId]!.sender.state === 'running', 'it to be over')
})

it('where one connection is all there is, it is refused at the go-live by what is in the way', async () => {
  const made = await laid.publish('file', 2, plant.equipmentIds, { trigger: { kind: 'hand' } })
  await edited(made.id, { ahead: true })
  await expect(goLive(t.db, made.id, 'test', freeze)).rejects.toMatchObject({
    failure: { code: 'preflight.stops', fields: { safely: 'Nothing goes ahead of others to file: files are written one after the other' } },
  })
  await setRunning(t.db, made.id, false)
})

it('a destination goes with the lane of what goes ahead once nobody speaks there', async () => {
  const { destinationId } = laid.roads.get('stream')!
  await expect(removeDestination(t.db, destinationId)).rejects.toMatchObject({ failure: { message: 'Publications still go there' } })
  expect(await lanesOf('stream')).toHaveLength(2)
})
