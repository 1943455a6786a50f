// Drafts are computed in a thread of their own, with real values: whatever they are, the engine goes on.

import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { FailureError } from '~/contract/failure'
import { Preview, type PublicationDraft } from '~/contract/publication'
import { flatJsonSettings, ShapeSettings } from '~/contract/shape'
import { type OverMqtt, overMqtt } from '~/core/publication/over-mqtt'
import { realClock } from '~/engine/clock/real-clock'
import { Engine } from '~/engine/engine'
import { LiveTable } from '~/engine/live/table'
import type { PreviewQuestion } from '~/engine/publications/preview-desk'
import { ThreadedPreviews } from '~/engine/publications/previews'
import { Documents } from '~/engine/sources/documents'
import { addDestination } from '~/store/destination'
import { editEquipment } from '~/store/equipment-edit'
import { bundled } from '../bundle'
import { publish, zonesPlant } from './plant'
import { brokerSettings, folder, freshDatabase, startBroker, type TestBroker, until } from './support'

const ZONES = 400
let t: Awaited<ReturnType<typeof freshDatabase>>
let b: TestBroker
let engine: Engine
let program: string
let plant: Awaited<ReturnType<typeof zonesPlant>>
let destinationId: string
let liveId: string

const draft = (more: Partial<OverMqtt> = {}): PublicationDraft =>
  overMqtt({
    name: 'draft',
    equipmentIds: plant.equipmentIds.slice(0, 1),
    trigger: { kind: 'change' },
    shape: flatJsonSettings,
    topic: 'draft/{name}',
    destinationId,
    ...more,
  })
/** A template over all equipment that takes a while to fill in. */
const heavy = () =>
  draft({
    equipmentIds: plant.equipmentIds,
    shape: ShapeSettings.parse({ kind: 'template', body: `{${Array.from({ length: 800 }, (_, i) => `"a${i}": "\${equipment}"`).join(',')}}` }),
  })
const set = (value: number) => {
  const now = Date.now()
  const { handles } = plant
  engine.table.apply({ handles, values: handles.map(() => value), statuses: handles.map(() => 0), times: handles.map(() => now) })
}
const preview = async (d: PublicationDraft, equipmentId?: string, publicationId?: string) =>
  Preview.parse(JSON.parse(await engine.preview(d, equipmentId, publicationId)))
const failure = async (work: Promise<unknown>): Promise<FailureError> => {
  const e = await work.then(
    () => null,
    (x: unknown) => x,
  )
  expect(e).toBeInstanceOf(FailureError)
  return e as FailureError
}

beforeAll(async () => {
  program = await bundled('src/engine/publications/preview-thread.ts', 'previews.mjs')
  t = await freshDatabase()
  b = await startBroker()
  destinationId = (
    await addDestination(t.db, { name: 'Broker', kind: 'mqtt', enabled: true, settings: await brokerSettings(t.db, t.vault, b.ports) })
  ).id
  plant = await zonesPlant(t.db, t.vault, ZONES)
  liveId = await publish(t.db, { name: 'live', destinationId, equipmentIds: plant.equipmentIds.slice(0, 2), topic: 'live/{name}' })
  engine = new Engine({ db: t.db, url: t.url, vault: t.vault, workFolder: folder('previews'), previewProgram: program })
  await engine.start()
})
afterAll(async () => {
  await engine?.stop()
  await b?.broker.stop()
  await t?.drop()
})

it('shows a draft with the values of this moment, beside what is live', async () => {
  set(451.5)
  const shown = await preview(draft(), undefined, liveId)
  expect(JSON.parse(shown.message!.payload)).toMatchObject({ n: 451.5 })
  expect(shown.topic).toBe('draft/zone-1')
  set(452)
  expect(JSON.parse((await preview(draft(), plant.equipmentIds[0])).message!.payload)).toMatchObject({ n: 452 })
  expect((await preview(draft({ topic: 'live/{name}' }))).findings.map((f) => f.message).join()).toContain('live writes to live/zone-1 too')
})

it('knows what was changed in the model since it was asked last', async () => {
  await preview(draft())
  await editEquipment(t.db, { change: [{ id: plant.equipmentIds[0]!, name: 'Zone One' }] })
  await until(async () => (await preview(draft())).topic === 'draft/zone-one', 'the new name')
})

it('gives what receivers are given, of the live version', async () => {
  const told = JSON.parse(await engine.contract(draft(), liveId, 'asyncapi')) as { asyncapi: string; channels: object }
  expect(told.asyncapi).toMatch(/^3\./)
  expect(JSON.stringify(told.channels)).toContain('live/')
})

it("the engine's loop turns while a heavy draft is computed", async () => {
  let turns = 0
  let over = false
  const turn = () => {
    turns++
    if (!over) setImmediate(turn)
  }
  turn()
  const asked = preview(heavy())
  const before = engine.table.current
  set(500)
  const shown = await asked
  over = true
  expect(shown.topicCount).toBe(ZONES)
  expect(engine.table.current).toBeGreaterThan(before)
  expect(turns).toBeGreaterThan(100)
})

describe('a question by itself', () => {
  const table = new LiveTable()
  const question = (d: PublicationDraft): PreviewQuestion => ({ kind: 'preview', draft: d, host: { name: 'n', version: '1', startedAt: 0 } })
  const made: ThreadedPreviews[] = []
  const threaded = (answerMs?: number) => {
    const p = new ThreadedPreviews(program, t.url, { table, documents: new Documents() }, realClock, answerMs)
    made.push(p)
    return p
  }
  afterAll(() => Promise.all(made.map((p) => p.stop())))

  it('that takes too long ends, with its thread, and the next has a new one', async () => {
    const p = threaded(1)
    expect(await failure(p.ask(question(heavy())))).toMatchObject({ status: 422, failure: { code: 'preview.too-long' } })
    expect(await failure(p.ask(question(draft())))).toMatchObject({ failure: { code: 'preview.too-long' } })
  })

  it('that cannot be answered fails alone', async () => {
    const p = threaded()
    const wrong = question(draft())
    const [bad, good] = await Promise.all([
      failure(p.ask({ ...wrong, draft: { ...wrong.draft, equipmentIds: null as unknown as string[] } })),
      p.ask(wrong),
    ])
    expect(bad.failure.where).toBe('publication')
    expect(Preview.parse(JSON.parse(good)).topicCount).toBe(1)
  })

  it('of many is told to come again, before they pile up', async () => {
    const p = threaded()
    const all = Array.from({ length: 30 }, () =>
      p.ask(question(draft())).then(
        () => 'answered',
        (e: FailureError) => e.failure.code,
      ),
    )
    const came = await Promise.all(all)
    expect(new Set(came)).toEqual(new Set(['answered', 'preview.busy']))
    expect(came.filter((c) => c === 'answered').length).toBe(17)
  })

  it('that is asked when all ends is told so', async () => {
    const p = threaded()
    const asked = failure(p.ask(question(heavy())))
    await p.stop()
    expect((await asked).failure.code).toBe('engine.stops')
  })
})
