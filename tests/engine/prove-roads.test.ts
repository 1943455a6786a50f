import { afterAll, beforeAll, expect, it } from 'vitest'
import { ProofPlan, ProofReport } from '~/contract/prove'
import { messageId } from '~/core/delivery/envelope'
import { Engine } from '~/engine/engine'
import { installationCode } from '~/store/person'
import { getProofRun, reportOf } from '~/store/proof-run'
import { zonesPlant } from './plant'
import { layRoads } from './roads'
import { folder, freshDatabase, until } from './support'

// A proof run over every kind of destination at once, with a fault on the link to each that has one.

const FAULTY = ['mqtt', 'http', 'stream', 'table', 'hub by token', 'hub by certificate']

let t: Awaited<ReturnType<typeof freshDatabase>>
let laid: Awaited<ReturnType<typeof layRoads>>
let engine: Engine
let handles: number[]
const publications = new Map<string, { id: string; delivery: number }>()
let timer: NodeJS.Timeout

beforeAll(async () => {
  t = await freshDatabase()
  laid = await layRoads(t, undefined, 20)
  process.env.EMBRIK_FILES_DIR = laid.top
  const plant = await zonesPlant(t.db, t.vault, 2)
  handles = plant.handles
  for (const name of laid.roads.keys()) publications.set(name, await laid.publish(name, 0, plant.equipmentIds))
  engine = new Engine({ db: t.db, url: t.url, vault: t.vault, workFolder: folder('prove-roads') })
  await engine.start()
  let value = 0
  timer = setInterval(() => {
    value++
    engine.table.apply({ handles, values: handles.map(() => value), statuses: handles.map(() => 0), times: handles.map(() => Date.now()) })
  }, 100)
  await until(() => [...engine.destinations.values()].every((d) => d.present().state === 'running'), 'all destinations to be up')
})
afterAll(async () => {
  clearInterval(timer)
  await engine.stop()
  await laid.stop()
  await t.drop()
})

async function run(plan: object): Promise<ProofReport> {
  const id = await engine.proofRuns.start(ProofPlan.parse({ name: 'All roads', seconds: 16, settleS: 120, ...plan }), 'ines')
  await until(
    async () => (await getProofRun(t.db, id)).run.outcome !== null,
    () => `the run to end: ${JSON.stringify(engine.proofRuns.progress(id))}`,
    240,
  )
  const { parts } = await reportOf(t.db, id)
  return ProofReport.parse(JSON.parse(parts.find((p) => p.part === 'json')!.body.toString()))
}

it('cut and silent for a while, one after the other: every message of the run lies at the end of its road', async () => {
  const faults = FAULTY.flatMap((name, i) => [
    { destinationId: laid.roads.get(name)!.destinationId, kind: i % 2 === 0 ? 'cut' : 'silent', atS: 1 + i * 2, forS: 2 },
  ])
  const publicationIds = [...publications.values()].map((p) => p.id)
  const report = await run({ publicationIds, faults, limits: { doubled: null, recoveredS: 120 } })
  expect(report.faults.map((f) => [f.words, f.recoveredS !== null])).toEqual(report.faults.map((f) => [f.words, true]))
  expect(report.outcome, `${report.why} ${JSON.stringify(report.limits)}`).toBe('held')
  const installation = await installationCode(t.db)
  for (const [name, { delivery }] of publications) {
    const told = report.deliveries.find((d) => d.publication === name)!
    const there = await laid.roads.get(name)!.copies()
    const gone: number[] = []
    for (let seq = told.first; seq <= told.last; seq++) if (!there.has(messageId(installation, delivery, seq))) gone.push(seq)
    expect([name, gone]).toEqual([name, []])
    expect([name, told.counts.produced > 30]).toEqual([name, true])
  }
  // The ways are straight again.
  for (const name of FAULTY) {
    const id = publications.get(name)!.delivery
    const before = engine.ledger.countsOf(id)!.arrived
    await until(() => engine.ledger.countsOf(id)!.arrived > before, `${name} to go on`)
  }
}, 400_000)

it('faults at what is not connected are not begun: nobody could tell them from what is wrong already', async () => {
  const http = laid.roads.get('http')!
  http.gate!.cut(30_000)
  await until(() => engine.destinations.get(http.destinationId)!.present().state === 'trouble', 'it to be lost')
  const report = await run({
    publicationIds: [publications.get('http')!.id],
    faults: [{ destinationId: http.destinationId, kind: 'cut', atS: 1, forS: 1 }],
  })
  expect(report).toMatchObject({ outcome: 'failed', why: 'http is not connected: faults cannot be told from what is wrong already.' })
  http.gate!.mend()
  await until(() => engine.destinations.get(http.destinationId)!.present().state === 'running', 'it to be back')
})

it('a folder has no link that could fail, which is said', async () => {
  const { destinationId } = laid.roads.get('file')!
  const report = await run({ publicationIds: [publications.get('file')!.id], faults: [{ destinationId, kind: 'cut', atS: 1, forS: 1 }] })
  expect(report).toMatchObject({ outcome: 'failed', why: 'file has no link that could fail: nothing is connected there.' })
})
