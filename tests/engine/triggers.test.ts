import { afterEach, describe, expect, it } from 'vitest'
import type { PublicationDraft } from '~/contract/publication'
import { Engine } from '~/engine/engine'
import { openDatabase } from '~/store/database'
import { freeze } from '~/store/freeze'
import { goLive, setRunning } from '~/store/going-live'
import { getPublication } from '~/store/publication'
import { changePublication } from '~/store/publication-edit'
import { publish } from './plant'
import { pause, scene } from './scene'
import { folder, until } from './support'

type Scene = Awaited<ReturnType<typeof scene>>
let s: Scene
afterEach(() => s.end())

/** The broker keeps what came, and not only its digest. */
const broker = { keyOf: (m: { topic: string; payload: Buffer }) => (m.topic.startsWith('varnmoor/one/') ? m.payload.toString() : null) }
/** What the broker has of the topics of this scene, oldest first. */
const arrived = () => s.b.broker.truth.arrivals.flatMap((a) => (a.key === null ? [] : [(JSON.parse(a.key) as { n: number }).n]))
const set = (value: number, status = 0) =>
  s.engine.table.apply({
    handles: s.handles,
    values: s.handles.map(() => value),
    statuses: s.handles.map(() => status),
    times: s.handles.map(() => Date.now()),
  })
const arrivedCount = (n: number) =>
  until(
    () => s.counts()!.arrived >= n,
    () => JSON.stringify(s.counts()),
  )

it('on a condition: once it begins, with what held it; the rest of the account is as ever', async () => {
  s = await scene({
    broker,
    publication: { topic: 'varnmoor/one/{unit}', trigger: { kind: 'when', condition: 'n > 10.0', until: 'n < 5.0', on: 'begin' } },
  })
  for (const v of [1, 11, 12, 7, 13, 4, 20]) set(v)
  await arrivedCount(2)
  await s.settled()
  expect(arrived()).toEqual([11, 20])
  expect(s.counts()).toMatchObject({ produced: 2, arrived: 2, missing: 0 })
})

it('at most every 2 s: of a flood only the first and then the newest, and the last is never lost', async () => {
  s = await scene({ broker, publication: { topic: 'varnmoor/one/{unit}', pace: { mostS: 2 } } })
  const still = s.feed(5)
  await until(() => s.counts()!.arrived >= 3, 'three')
  still()
  const last = s.change()
  await until(
    () => arrived().at(-1) === last,
    () => `${arrived()} to end with ${last}`,
  )
  await s.settled()
  // Of several hundred changes.
  expect(last).toBeGreaterThan(100)
  expect(s.counts()!.produced).toBeLessThan(10)
})

it('at least every 1 s: it says how things are though nothing changes', async () => {
  s = await scene({ broker, publication: { topic: 'varnmoor/one/{unit}', pace: { leastS: 1 } } })
  set(7)
  await arrivedCount(4)
  expect(new Set(arrived())).toEqual(new Set([7]))
})

describe('on an event', () => {
  it('a value that comes in: the same one too, and no link that is lost', async () => {
    s = await scene({ broker, publication: { topic: 'varnmoor/one/{unit}', trigger: { kind: 'event', of: 'value' } } })
    for (const v of [7, 7, 7, 8]) set(v)
    await arrivedCount(4)
    s.engine.table.mark(s.handles, 0x80310000)
    set(8)
    await arrivedCount(5)
    await s.settled()
    expect(arrived()).toEqual([7, 7, 7, 8, 8])
    expect(s.counts()).toMatchObject({ produced: 5, arrived: 5, missing: 0 })
  })

  it('equipment that joins: once, over a pause and a new start of the engine; what is added to it later is told', async () => {
    s = await scene({ broker, publication: { topic: 'varnmoor/one/{unit}', trigger: { kind: 'event', of: 'joined' } }, zones: 3 })
    const running = (engine: Engine) => engine.publications.of(s.delivery())?.plan.number
    const change = async (equipmentIds: string[]) => {
      const { id, version: _v, state: _s, liveVersion: _l, editedSinceLive: _e, ...draft } = await getPublication(s.t.db, s.publicationId)
      await changePublication(s.t.db, id, { ...draft, equipmentIds })
      return (await goLive(s.t.db, id, 'test', freeze)).liveVersion!
    }
    const two = await change(s.equipmentIds.slice(0, 2))
    await until(() => running(s.engine) === two, 'two of them to be live')
    set(5)
    await arrivedCount(2)
    await setRunning(s.t.db, s.publicationId, false)
    await until(() => running(s.engine) === undefined, 'it to pause')
    await setRunning(s.t.db, s.publicationId, true)
    await until(() => running(s.engine) === two, 'it to go on')
    set(6)
    await pause(500)
    expect(s.counts()).toMatchObject({ produced: 2, arrived: 2 })
    await s.settled()
    const delivery = s.delivery()
    await s.engine.stop()

    const db = openDatabase(s.t.url, 4)
    const engine = new Engine({ db, url: s.t.url, vault: s.t.vault, workFolder: folder('joined') })
    try {
      await engine.start()
      await until(() => engine.publications.of(delivery), 'it to run again')
      const tell = (n: number) =>
        engine.table.apply({ handles: s.handles, values: s.handles.map(() => n), statuses: [0, 0, 0], times: [Date.now(), Date.now(), Date.now()] })
      tell(7)
      await pause(500)
      expect(engine.ledger.countsOf(delivery)!.produced).toBe(2)
      const three = await change(s.equipmentIds)
      await until(() => engine.publications.of(delivery)?.plan.number === three, 'all of them to be live')
      tell(8)
      await until(() => engine.ledger.countsOf(delivery)!.confirmed === 3, 'the third to be told of')
      tell(9)
      await pause(500)
      expect(engine.ledger.countsOf(delivery)).toMatchObject({ produced: 3, confirmed: 3, missing: 0 })
    } finally {
      await engine.stop()
      await db.destroy()
    }
  })
})

async function nextVersion(part: Partial<PublicationDraft>): Promise<void> {
  const { id, version: _v, state: _s, liveVersion: _l, editedSinceLive: _e, ...draft } = await getPublication(s.t.db, s.publicationId)
  await changePublication(s.t.db, id, { ...draft, ...part })
  await goLive(s.t.db, id, 'test', freeze)
}

describe('by hand', () => {
  it('nothing goes but when somebody asks; a version that just went live is waited for', { timeout: 60_000 }, async () => {
    s = await scene({ broker, publication: { topic: 'varnmoor/one/{unit}', trigger: { kind: 'hand' } }, zones: 3 })
    s.change(5)
    await pause(500)
    expect(s.counts()!.produced).toBe(0)
    expect(await s.engine.publications.say(s.publicationId, 1)).toBe(3)
    await arrivedCount(3)
    await s.settled()
    expect(s.counts()).toMatchObject({ produced: 3, arrived: 3, missing: 0 })
    const asked = s.engine.publications.say(s.publicationId, 2)
    await pause(200)
    await nextVersion({ name: 'Later' })
    expect(await asked).toBe(3)
    await arrivedCount(6)
    await s.settled()
    expect(s.counts()).toMatchObject({ produced: 6, arrived: 6, missing: 0 })
    expect(s.engine.publications.running.get(s.publicationId)!.plan.name).toBe('Later')
    await expect(s.engine.publications.say(s.publicationId, 3)).rejects.toThrow('has not begun to run within 15 s')
  })
})

it('a version with another trigger takes the place of the one before, without a message lost or doubled', async () => {
  s = await scene({ broker, publication: { topic: 'varnmoor/one/{unit}' } })
  const still = s.feed(10)
  await arrivedCount(50)
  const triggers = [
    { kind: 'change' as const, deadband: { kind: 'absolute' as const, size: 3 } },
    { kind: 'every' as const, seconds: 0.1, aligned: true },
    { kind: 'change' as const },
  ]
  for (const trigger of triggers) {
    await nextVersion({ trigger })
    const before = s.counts()!.arrived
    await arrivedCount(before + 20)
  }
  still()
  await s.settled()
  const counts = s.counts()!
  expect(counts).toMatchObject({ missing: 0, doubled: 0, disordered: 0, unknown: 0 })
  expect(counts.arrived).toBe(counts.produced)
})

it('conditions that cannot be, and times that never come, are refused at the go-live, by what is wrong', async () => {
  s = await scene()
  const { destinationId, equipmentIds } = s
  const at = { destinationId, equipmentIds }
  await expect(publish(s.t.db, { ...at, name: 'a', trigger: { kind: 'when', condition: 'm > 1.0', on: 'begin' } })).rejects.toMatchObject({
    failure: { code: 'preflight.stops', fields: { when: expect.stringContaining('m is not known') } },
  })
  await expect(publish(s.t.db, { ...at, name: 'b', trigger: { kind: 'when', condition: 'n + 1.0', on: 'begin' } })).rejects.toMatchObject({
    failure: { fields: { when: expect.stringContaining('compare it') } },
  })
  await expect(publish(s.t.db, { ...at, name: 'c', trigger: { kind: 'schedule', cron: '0 0 30 2 *', zone: 'UTC' } })).rejects.toMatchObject({
    failure: { fields: { when: expect.stringContaining('never comes') } },
  })
  await expect(publish(s.t.db, { ...at, name: 'd', trigger: { kind: 'schedule', cron: '0 0 * * *', zone: 'Kiln/Zone' } })).rejects.toMatchObject({
    failure: { fields: { when: expect.stringContaining('no time zone') } },
  })
})
