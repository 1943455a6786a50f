import { afterAll, beforeAll, expect, it } from 'vitest'
import type { PublicationDraft } from '~/contract/publication'
import { flatJsonSettings } from '~/contract/shape'
import { messageId } from '~/core/delivery/envelope'
import { Engine } from '~/engine/engine'
import { listClasses } from '~/store/class'
import { freeze } from '~/store/freeze'
import { goBack, goLive, setRunning } from '~/store/going-live'
import { installationCode } from '~/store/person'
import { getPublication, planOf } from '~/store/publication'
import { addPublication, changePublication, removePublication } from '~/store/publication-edit'
import { judged } from './lines'
import { zonesPlant } from './plant'
import { layRoads } from './roads'
import { bystander, folder, freshDatabase, until } from './support'

// One publication that says what it says to several destinations of several kinds at once.

const ROADS = ['mqtt', 'stream', 'table', 'http', 'file'] as const

let t: Awaited<ReturnType<typeof freshDatabase>>
let laid: Awaited<ReturnType<typeof layRoads>>
let engine: Engine
let handles: number[]
let root: string
/** Further clauses, by their road. */
const clauses = new Map<string, string>()
let value = 0

/** Another value for each tag. */
function change(): void {
  value++
  engine.table.apply({ handles, values: handles.map(() => value), statuses: handles.map(() => 0), times: handles.map(() => Date.now()) })
}
const lineOf = (id: string) => engine.lines().find((l) => l.publicationId === id)
const countsOf = (id: string) => {
  const line = lineOf(id)
  return line ? engine.ledger.countsOf(line.delivery) : null
}
const draftOf = async (id: string): Promise<PublicationDraft> => {
  const { id: _i, version: _v, state: _s, liveVersion: _l, editedSinceLive: _e, ...draft } = await getPublication(t.db, id)
  return draft
}
const all = () => [root, ...clauses.values()]
const settled = (ids: readonly string[] = all()) =>
  until(
    () => ids.every((id) => lineOf(id) && countsOf(id)!.produced > 0 && judged(engine, lineOf(id)!.delivery)),
    () => `every verdict: ${ids.map((id) => JSON.stringify(countsOf(id))).join('\n')}`,
    120,
  )
const states = async () => Promise.all(all().map(async (id) => (await getPublication(t.db, id)).state))
const runs = (n: number) => until(() => all().filter((id) => engine.publications.running.has(id)).length === n, `${n} clauses to run`)

async function addClause(road: string, part: Partial<PublicationDraft> = {}): Promise<string> {
  const { destinationId, address } = laid.roads.get(road)!
  const draft = { ...(await draftOf(root)), name: `zones to ${road}`, alsoOf: root, destinationId, address: address(0), ...part }
  return (await addPublication(t.db, draft)).id
}

beforeAll(async () => {
  t = await freshDatabase()
  laid = await layRoads(t)
  const plant = await zonesPlant(t.db, t.vault, 4)
  handles = plant.handles
  const { destinationId, address } = laid.roads.get('mqtt')!
  root = (
    await addPublication(t.db, {
      name: 'zones',
      equipmentIds: plant.equipmentIds,
      trigger: { kind: 'change' },
      shape: flatJsonSettings,
      steersOnly: false,
      destinationId,
      address: address(0),
    })
  ).id
  for (const road of ROADS.slice(1)) clauses.set(road, await addClause(road))
  process.env.EMBRIK_FILES_DIR = laid.top
  engine = new Engine({ db: t.db, url: t.url, vault: t.vault, workFolder: folder('also') })
  await engine.start()
})
afterAll(async () => {
  await engine.stop()
  await laid.stop()
  await t.drop()
})

it('all go live as one version, and say the same to each destination; a link that is cut holds up none of the others', async () => {
  await goLive(t.db, root, 'Ines', freeze)
  const whole = await Promise.all(all().map((id) => getPublication(t.db, id)))
  expect(whole.map((p) => [p.state, p.liveVersion, p.editedSinceLive])).toEqual(ROADS.map(() => ['live', 1, false]))
  await runs(ROADS.length)
  for (let i = 0; i < 20; i++) change()
  await until(() => all().every((id) => (countsOf(id)?.arrived ?? 0) >= 4), 'all of them to arrive')

  const { gate } = laid.roads.get('http')!
  gate!.cut(600)
  const http = clauses.get('http')!
  const others = all().filter((id) => id !== http)
  const before = countsOf(root)!.produced
  for (let i = 0; i < 50; i++) {
    change()
    await new Promise((done) => setTimeout(done, 20))
  }
  await settled(others)
  expect(countsOf(root)!.produced).toBeGreaterThanOrEqual(before + 200)
  expect(countsOf(http)!.waiting).toBeGreaterThan(0)
  gate!.mend()
  await settled()

  const installation = await installationCode(t.db)
  for (const [i, id] of all().entries()) {
    const counts = countsOf(id)!
    expect(counts, ROADS[i]).toMatchObject({ produced: countsOf(root)!.produced, missing: 0, disordered: 0, dropped: 0 })
    const copies = await laid.roads.get(ROADS[i]!)!.copies()
    for (let seq = 1; seq <= counts.produced; seq++)
      expect(copies.get(messageId(installation, lineOf(id)!.delivery, seq)), `${ROADS[i]} ${seq}`).toBeGreaterThanOrEqual(1)
  }
})

it('what is changed of equipment, trigger, pace or steps is changed for all of them, and only that', async () => {
  const before = await draftOf(clauses.get('stream')!)
  const draft = await draftOf(root)
  await changePublication(t.db, root, { ...draft, pace: { mostS: 1 }, steps: [{ kind: 'drop', condition: 'n < 0', unknown: 'pass' }] })
  const after = await getPublication(t.db, clauses.get('stream')!)
  expect(after).toMatchObject({ ...before, pace: { mostS: 1 }, editedSinceLive: true })
  expect(after.steps).toHaveLength(1)
  // What a clause says of them is not taken.
  const own = await draftOf(clauses.get('stream')!)
  const changed = await changePublication(t.db, clauses.get('stream')!, { ...own, trigger: { kind: 'hand' }, name: 'zones for the hall' })
  expect(changed).toMatchObject({ name: 'zones for the hall', trigger: { kind: 'change' }, pace: { mostS: 1 } })
  await changePublication(t.db, root, { ...draft, trigger: { seconds: 7, kind: 'every', aligned: true } })
  // What is not theirs marks none of them as edited, in whatever order the database gives it back.
  const version = async () => (await getPublication(t.db, clauses.get('stream')!)).version
  const until7 = await version()
  await changePublication(t.db, root, { ...draft, trigger: { kind: 'every', aligned: true, seconds: 7 }, name: 'zones, again' })
  expect(await version()).toBe(until7)
  await changePublication(t.db, root, draft)
  const again = await getPublication(t.db, clauses.get('table')!)
  expect([again.pace, again.steps]).toEqual([undefined, undefined])
})

it('a clause that is switched off is sent no more from the next go-live on, its account stays; going back brings it again', async () => {
  const http = clauses.get('http')!
  const counted = countsOf(http)!.produced
  await changePublication(t.db, http, { ...(await draftOf(http)), off: true })
  expect(await states()).toEqual(ROADS.map(() => 'live'))
  await goLive(t.db, clauses.get('file')!, 'Ines', freeze)
  expect(await states()).toEqual(['live', 'live', 'live', 'paused', 'live'])
  expect(await getPublication(t.db, http)).toMatchObject({ liveVersion: 1, editedSinceLive: false })
  await runs(ROADS.length - 1)
  for (let i = 0; i < 5; i++) change()
  const others = all().filter((id) => id !== http)
  await settled(others)
  expect(countsOf(http)!.produced).toBe(counted)

  // Paused and resumed it stays away: the version that is live does not have it.
  await setRunning(t.db, http, false)
  expect(await states()).toEqual(ROADS.map(() => 'paused'))
  await setRunning(t.db, root, true)
  expect(await states()).toEqual(['live', 'live', 'live', 'paused', 'live'])

  await goBack(t.db, root, 1, 'Ines')
  const whole = await Promise.all(all().map((id) => getPublication(t.db, id)))
  expect(whole.map((p) => [p.state, p.liveVersion])).toEqual(ROADS.map(() => ['live', 3]))
  expect(await planOf(t.db, http, 3)).toMatchObject({ backTo: 1 })
  // A version that did not have it takes it away again.
  await goBack(t.db, root, 2, 'Ines')
  expect(await states()).toEqual(['live', 'live', 'live', 'paused', 'live'])
  await runs(ROADS.length - 1)
  for (let i = 0; i < 5; i++) change()
  await settled(others)
  for (const id of others) expect(countsOf(id)).toMatchObject({ missing: 0, disordered: 0, unknown: 0 })
})

it('one that cannot go live keeps all of them from it, and nothing has changed', async () => {
  const before = await Promise.all(all().map((id) => getPublication(t.db, id)))
  const { address } = laid.roads.get('mqtt')!
  const wrong = await addClause('mqtt', { name: 'wrong', address: { ...address(1), topic: 'varnmoor/{nobody}' } as never })
  await expect(goLive(t.db, root, 'Ines', freeze)).rejects.toMatchObject({ failure: { code: 'preflight.stops' } })
  expect(await Promise.all(all().map((id) => getPublication(t.db, id)))).toEqual(before)
  expect((await getPublication(t.db, wrong)).state).toBe('draft')
  await removePublication(t.db, wrong)
})

it('messages branch: by a condition of its own each clause takes its part of them, and by a class', async () => {
  const { address } = laid.roads.get('mqtt')!
  const hot = await addClause('mqtt', { name: 'hot', address: address(1), own: [{ kind: 'keep', condition: 'n >= 1000000', unknown: 'drop' }] })
  const [cls] = await listClasses(t.db)
  await changePublication(t.db, root, {
    ...(await draftOf(root)),
    onlyClassId: cls!.id,
    own: [{ kind: 'drop', condition: 'n >= 1000000', unknown: 'pass' }],
  })
  await goLive(t.db, root, 'Ines', freeze)
  const { liveVersion } = await getPublication(t.db, root)
  await until(() => [root, hot].every((id) => engine.publications.running.get(id)?.plan.number === liveVersion), 'both to run')
  const arrived: { topic: string; hot: boolean }[] = []
  const listener = await bystander(laid.brokerPorts, 'listener', (topic, payload) => {
    arrived.push({ topic, hot: JSON.parse(payload.toString()).n >= 1_000_000 })
  })
  await listener.subscribeAsync(['varnmoor/mqtt0/#', 'varnmoor/mqtt1/#'], { qos: 1 })
  const end = value + 5
  while (value < end) {
    change()
    await new Promise((done) => setTimeout(done, 10))
  }
  value += 1_000_000
  for (let i = 0; i < 5; i++) change()
  await settled([root, hot])
  await until(() => arrived.some((a) => a.hot), 'the listener to have heard it')
  await listener.endAsync()
  expect(new Set(arrived.map((a) => a.topic.split('/')[1]))).toEqual(new Set(['mqtt0', 'mqtt1']))
  expect(arrived.filter((a) => a.hot !== a.topic.startsWith('varnmoor/mqtt1/'))).toEqual([])
  // What is common to all stays so: it is none of the others' steps.
  expect((await getPublication(t.db, clauses.get('stream')!)).own).toBeUndefined()
  const nobody = '01890000-0000-7000-8000-000000000000'
  await changePublication(t.db, hot, { ...(await draftOf(hot)), onlyClassId: nobody })
  await expect(goLive(t.db, root, 'Ines', freeze)).rejects.toMatchObject({
    failure: { fields: { what: expect.stringContaining('None of the equipment') } },
  })
  await changePublication(t.db, hot, { ...(await draftOf(hot)), off: true })
  const { own: _o, onlyClassId: _c, ...whole } = await draftOf(root)
  await changePublication(t.db, root, whole)
  await goLive(t.db, root, 'Ines', freeze)
  await removePublication(t.db, hot)
})

it('topics of two clauses are exchanged in one go-live', async () => {
  const { address } = laid.roads.get('mqtt')!
  const second = await addClause('mqtt', { name: 'second', address: address(1) })
  await goLive(t.db, root, 'Ines', freeze)
  await changePublication(t.db, root, { ...(await draftOf(root)), address: address(1) })
  await changePublication(t.db, second, { ...(await draftOf(second)), address: address(0) })
  await goLive(t.db, root, 'Ines', freeze)
  const [one, two] = [await getPublication(t.db, root), await getPublication(t.db, second)]
  expect((await planOf(t.db, second, two.liveVersion!))!.messages[0]!.place).toBe('varnmoor/mqtt0/zone-1')
  expect((await planOf(t.db, root, one.liveVersion!))!.messages[0]!.place).toBe('varnmoor/mqtt1/zone-1')
  await changePublication(t.db, second, { ...(await draftOf(second)), off: true })
  await goLive(t.db, root, 'Ines', freeze)
  await removePublication(t.db, second)
})

it('what cannot be is refused, by its name', async () => {
  const stream = clauses.get('stream')!
  await expect(addClause('file', { name: 'x', alsoOf: stream })).rejects.toMatchObject({
    failure: { fields: { alsoOf: expect.stringContaining('itself') } },
  })
  const nobody = '01890000-0000-7000-8000-000000000000'
  await expect(addClause('file', { name: 'x', alsoOf: nobody })).rejects.toMatchObject({
    failure: { fields: { alsoOf: 'There is no such publication' } },
  })
  const { alsoOf: _a, ...alone } = await draftOf(stream)
  await expect(changePublication(t.db, stream, alone)).rejects.toMatchObject({ failure: { code: 'publication.clause' } })
  await expect(changePublication(t.db, root, { ...(await draftOf(root)), alsoOf: stream })).rejects.toMatchObject({
    failure: { code: 'publication.clause' },
  })
  // A whole publication cannot be switched off by that: it is paused.
  expect(await changePublication(t.db, root, { ...(await draftOf(root)), off: true })).not.toHaveProperty('off')
  await expect(removePublication(t.db, stream)).rejects.toMatchObject({ failure: { hint: expect.stringContaining('Switch the clause off') } })
  await expect(removePublication(t.db, root)).rejects.toMatchObject({ failure: { hint: 'Pause it first' } })
  const more: string[] = []
  while (more.length + clauses.size < 8) more.push(await addClause('file', { name: `file ${more.length}` }))
  await expect(addClause('file', { name: 'ninth' })).rejects.toMatchObject({ failure: { fields: { alsoOf: expect.stringContaining('8') } } })
  await setRunning(t.db, root, false)
  await removePublication(t.db, root)
  for (const id of [...all(), ...more]) await expect(getPublication(t.db, id)).rejects.toMatchObject({ failure: { code: 'publication.unknown' } })
})
