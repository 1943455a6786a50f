import { execFile } from 'node:child_process'
import { writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { promisify } from 'node:util'
import { afterAll, afterEach, beforeAll, expect, it } from 'vitest'
import { newId } from '~/contract/id'
import { ProofPlan, ProofReport } from '~/contract/prove'
import { detours } from '~/engine/net/detours'
import { freeze } from '~/store/freeze'
import { goLive, setRunning } from '~/store/going-live'
import { plantKey } from '~/store/plant-key'
import { addProofRun, getProofRun, listProofRuns, removeProofRun, reportOf } from '~/store/proof-run'
import { pause, scene } from './scene'
import { folder, until } from './support'

// Proof runs: what they say against what the broker knows, and that nothing stays changed.

let s: Awaited<ReturnType<typeof scene>>
let still: () => void = () => undefined
beforeAll(async () => {
  s = await scene({ zones: 2, settings: { lateS: 8 } })
})
afterEach(() => {
  still()
  s.faults({})
})
afterAll(() => s.end())

const planOf = (part: object = {}) => ProofPlan.parse({ name: 'Acceptance', publicationIds: [s.publicationId], seconds: 5, settleS: 30, ...part })
const fault = (part: object) => ({ destinationId: s.destinationId, atS: 0.5, forS: 1, ...part })

/** Runs one to its end; gives its report as it is kept. */
async function run(plan: ProofPlan, during: (id: string) => Promise<void> | void = () => undefined): Promise<ProofReport> {
  still = s.feed(25)
  const id = await s.engine.proofRuns.start(plan, 'ines')
  await during(id)
  await until(async () => (await getProofRun(s.t.db, id)).run.outcome !== null, 'the run to end', 120)
  still()
  const { parts } = await reportOf(s.t.db, id)
  return ProofReport.parse(JSON.parse(parts.find((p) => p.part === 'json')!.body.toString()))
}
const outcomes = (r: ProofReport) => Object.fromEntries(r.limits.map((l) => [l.limit, l.outcome]))

/** Nothing that a run changes is changed any more. */
async function demandUnchanged() {
  expect(detours.of('127.0.0.1', s.settings.port)).toBeUndefined()
  await s.up()
  const before = s.gate.passed.up
  const n = s.change(5)
  await until(() => s.gate.passed.up > before, 'messages to go straight again')
  expect(n).toBeGreaterThan(0)
}

it('a run in which nothing goes wrong holds every limit, and counts what the broker got', async () => {
  const first = s.counts()!.produced
  const report = await run(planOf({ limits: { p99Ms: 5000, disordered: 0, late: 0 } }))
  expect(report).toMatchObject({ outcome: 'held', why: '', by: 'ines', seconds: expect.closeTo(5, 0), load: { multiple: 1, tags: 0 } })
  expect(new Set(Object.values(outcomes(report)))).toEqual(new Set(['held']))
  const [d] = report.deliveries
  expect(d).toMatchObject({ publication: 'p', destination: 'Broker', version: 1, witnessed: true })
  expect(d!.first).toBeGreaterThan(first)
  expect(report.counts.produced).toBe(d!.last - d!.first + 1)
  expect(report.counts.confirmed).toBe(report.counts.produced)
  // As many copies reached the broker, by their numbers.
  expect(report.counts.produced).toBeGreaterThan(100)
  expect(report.latency!.count).toBe(report.counts.produced)
  expect(report.curve.length).toBeGreaterThanOrEqual(4)
  expect(report.destinations).toMatchObject([
    { name: 'Broker', kind: 'mqtt', certificates: [{ use: 'own' }, { use: 'of the witness' }, { use: 'authority' }] },
  ])
  expect(report.clocks.map((c) => c.name)).toContain('Database')
  expect(report.environment.processors).toBeGreaterThan(0)
})

it('faults of every kind, one after the other and two at once: nothing is lost, all is well again, and nothing stays changed', async () => {
  const faults = [
    fault({ kind: 'cut', atS: 0.5 }),
    fault({ kind: 'kill', atS: 4 }),
    fault({ kind: 'refuse', atS: 6 }),
    fault({ kind: 'silent', way: 'back', atS: 8, forS: 2 }),
    fault({ kind: 'silent', way: 'there', atS: 12, forS: 2 }),
    fault({ kind: 'thin', octetsPerS: 2000, atS: 16 }),
    fault({ kind: 'slow', ms: 100, atS: 18, forS: 4 }),
    fault({ kind: 'cut', atS: 19, forS: 0.5 }),
  ]
  const report = await run(planOf({ seconds: 24, faults, limits: { recoveredS: 60, doubled: null } }))
  expect(report.faults.map((f) => [f.words, f.recoveredS !== null])).toEqual(report.faults.map((f) => [f.words, true]))
  expect(report.faults[0]!.connections).toBeGreaterThanOrEqual(2)
  expect(report.outcome, JSON.stringify(report.limits)).toBe('held')
  expect(report.counts).toMatchObject({ missing: 0, dropped: 0, unknown: 0, waiting: 0 })
  await demandUnchanged()
}, 180_000)

it('what a broker loses, doubles and alters breaks the limits, as many as it did', async () => {
  const from = s.b.broker.truth.arrivals.length
  s.faults({ drop: 0.05, double: 0.05, alter: 0.05 })
  const report = await run(planOf({ seconds: 6, settleS: 60 }))
  expect(report.outcome).toBe('broken')
  expect(outcomes(report)).toMatchObject({ missing: 'broken', doubled: 'broken', altered: 'broken', dropped: 'held' })
  const { produced, waiting: _w, ...became } = report.counts
  expect(Object.values(became).reduce((a, b) => a + b, 0)).toBe(produced)
  expect(s.b.broker.truth.arrivals.length - from).toBeGreaterThanOrEqual(produced)
  // Held against the ledger: those of this run, and no other.
  const [d] = report.deliveries
  const account = s.engine.ledger.account(s.delivery())
  for (const verdict of ['missing', 'doubled', 'altered'] as const) {
    let n = 0
    for (let seq = d!.first; seq <= d!.last; seq++) if (account.verdict(seq) === verdict) n++
    expect([verdict, report.counts[verdict]]).toEqual([verdict, n])
  }
})

it('a report is signed so that a common tool can tell whether it was changed', async () => {
  const report = await run(planOf())
  const { parts, key } = await reportOf(s.t.db, report.id)
  expect(parts.map((p) => p.part).sort()).toEqual(['html', 'json', 'pdf'])
  expect(key).toEqual(await plantKey(s.t.db, s.t.vault))
  const dir = folder('report')
  writeFileSync(join(dir, 'plant-key.pem'), key.publicKey)
  const checks = async (name: string) =>
    promisify(execFile)('openssl', ['dgst', '-sha256', '-verify', 'plant-key.pem', '-signature', `${name}.sig`, name], { cwd: dir }).then(
      ({ stdout }) => stdout.trim(),
      (e: { stdout: string }) => e.stdout.trim(),
    )
  for (const { part, body, signature } of parts) {
    const name = `report.${part}`
    writeFileSync(join(dir, name), body)
    writeFileSync(join(dir, `${name}.sig`), Buffer.from(signature, 'base64'))
    expect([part, await checks(name)]).toEqual([part, 'Verified OK'])
    const changed = Buffer.from(body)
    const at = Math.floor(changed.length / 2)
    changed[at] = changed[at]! ^ 1
    writeFileSync(join(dir, name), changed)
    expect([part, await checks(name)]).toEqual([part, 'Verification failure'])
  }
  const der = await promisify(execFile)('sh', ['-c', 'openssl pkey -pubin -in plant-key.pem -outform DER | openssl dgst -sha256 -c'], { cwd: dir })
  expect(der.stdout.trim().toUpperCase().endsWith(key.fingerprint)).toBe(true)
  const pdf = parts.find((p) => p.part === 'pdf')!.body
  expect(pdf.subarray(0, 5).toString()).toBe('%PDF-')
  expect(parts.find((p) => p.part === 'html')!.body.toString()).toContain(key.fingerprint)
})

it('a stopped one tells what it had measured, and undoes what it changed', async () => {
  const report = await run(planOf({ seconds: 600, faults: [fault({ kind: 'cut', atS: 0.2, forS: 500 })] }), async (id) => {
    await until(() => s.engine.proofRuns.progress(id)?.faults[0]?.state === 'on', 'the fault to be on')
    s.engine.proofRuns.stop(id, 'odo')
  })
  expect(report).toMatchObject({ outcome: 'stopped', why: 'odo stopped it.' })
  await demandUnchanged()
})

it('one that is paused or changed over under way fails, and says so', async () => {
  const changed = await run(planOf({ seconds: 60 }), async (id) => {
    await until(() => s.engine.proofRuns.progress(id)?.phase === 'running', 'it to run')
    await goLive(s.t.db, s.publicationId, 'test', freeze)
  })
  expect(changed).toMatchObject({ outcome: 'failed', why: 'p, version 1, was changed over to version 2 while it was measured.' })
  const paused = await run(planOf({ seconds: 60 }), async (id) => {
    await until(() => s.engine.proofRuns.progress(id)?.phase === 'running', 'it to run')
    await setRunning(s.t.db, s.publicationId, false)
  })
  expect(paused.why).toBe('p, version 2, was paused while it was measured.')
  const gone = await run(planOf())
  expect(gone).toMatchObject({ outcome: 'failed', why: 'A publication of the run is not live.', deliveries: [], seconds: 0 })
  await setRunning(s.t.db, s.publicationId, true)
  await until(() => s.engine.publicationConditions()[s.publicationId]?.state === 'running', 'it to run again')
})

it('two at once are refused, ends after so many messages, and those of an engine that is gone have failed', async () => {
  const report = await run(planOf({ seconds: 600, messages: 100 }), async (id) => {
    await expect(s.engine.proofRuns.start(planOf(), 'odo')).rejects.toMatchObject({ failure: { code: 'proof.busy' } })
    await expect(removeProofRun(s.t.db, id)).rejects.toMatchObject({ failure: { code: 'proof.runs' } })
    await pause(100)
  })
  expect(report.counts.produced).toBeGreaterThanOrEqual(100)
  expect(report.seconds).toBeLessThan(60)
  const id = newId()
  await addProofRun(s.t.db, id, planOf({ name: 'Cut short' }), 'ines')
  await s.engine.proofRuns.begin()
  expect((await getProofRun(s.t.db, id)).run).toMatchObject({ outcome: 'failed', why: 'The engine was started anew while it ran.' })
  await removeProofRun(s.t.db, id)
  expect((await listProofRuns(s.t.db)).some((r) => r.id === id)).toBe(false)
})
