// 1,000 publications of one message a second each: what the engine takes, with ten people looking; and what saving a draft among them costs.
import { spawn } from 'node:child_process'
import { writeFileSync } from 'node:fs'
import { Session } from 'node:inspector/promises'
import { ControlServer } from '~/engine/control/server'
import { getPublication } from '~/store/publication'
import { changePublication } from '~/store/publication-edit'
import { median, port, rig, show, sleep } from './common'

const PUBLICATIONS = 1000
const VIEWERS = 10
const SECONDS = Number(process.env.EMBRIK_BENCH_SECONDS ?? 6) * 3
const secret = 'bench-bench-bench-bench'

const setUp = performance.now()
let r = await rig(PUBLICATIONS, 3, 'each')
show(`${PUBLICATIONS} publications made and live`, `${((performance.now() - setUp) / 1000).toFixed(0)} s`)
const control = await ControlServer.start(r.engine, { host: '127.0.0.1', port: port + 40, secret })
const now = Date.now()
r.engine.table.apply({ handles: r.handles, values: r.handles.map(() => 1), statuses: r.handles.map(() => 0), times: r.handles.map(() => now) })

/** A process that looks at everything there is to see, as so many browsers. */
function viewers(n: number) {
  const url = `http://127.0.0.1:${port + 40}/live?parts=course,sources,publications,destinations,ledger&tags=1-200&spark=true`
  const code = `for (let i = 0; i < ${n}; i++) fetch(${JSON.stringify(url)}, { headers: { 'x-embrik-secret': '${secret}' } }).then(async (r) => { for await (const _ of r.body); })`
  const child = spawn(process.execPath, ['-e', code], { stdio: 'inherit' })
  return () => child.kill()
}

/** Share of one core that this process takes, and how late its event loop is at most, ms. */
async function load(seconds: number): Promise<{ cpu: number; late: number; rate: number }> {
  const before = process.cpuUsage()
  const began = performance.now()
  const sent = produced()
  let late = 0
  while (performance.now() - began < seconds * 1000) {
    const asked = performance.now()
    await sleep(20)
    late = Math.max(late, performance.now() - asked - 20)
  }
  const took = performance.now() - began
  const used = process.cpuUsage(before)
  return { cpu: (used.user + used.system) / 1000 / took, late, rate: ((produced() - sent) / took) * 1000 }
}
/** Notes where the time goes, for a profiler to read. */
async function profiled(): Promise<() => Promise<void>> {
  const session = new Session()
  session.connect()
  await session.post('Profiler.enable')
  await session.post('Profiler.start')
  return async () => writeFileSync(process.env.EMBRIK_BENCH_PROFILE!, JSON.stringify((await session.post('Profiler.stop')).profile))
}
const produced = () => r.engine.lines().reduce((sum, l) => sum + l.counts.produced, 0)
const words = ({ cpu, late, rate }: Awaited<ReturnType<typeof load>>) =>
  `${(cpu * 100).toFixed(0)} % of a core at ${rate.toFixed(0)}/s; event loop ${late.toFixed(0)} ms late at most`

await sleep(5000)
show('alone', words(await load(SECONDS)))
const leave = viewers(VIEWERS)
await sleep(2000)
show(`with ${VIEWERS} viewers of all there is`, words(await load(SECONDS)))

const saved: number[] = []
const during = load(6)
for (let i = 0; i < 20; i++) {
  const one = await getPublication(r.db, r.ids[i]!)
  const began = performance.now()
  await changePublication(r.db, one.id, { ...one, name: `${one.name} again` }, one.version)
  saved.push(performance.now() - began)
  await sleep(200)
}
show('a draft saved among them, with the viewers: median, most', `${median(saved).toFixed(1)}, ${Math.max(...saved).toFixed(1)} ms`)
show('meanwhile', words(await during))
const asked: number[] = []
for (let i = 0; i < 10; i++) {
  const { id: publicationId, version: _, state: __, liveVersion: ___, editedSinceLive: ____, ...draft } = await getPublication(r.db, r.ids[i]!)
  const began = performance.now()
  const answer = await fetch(`http://127.0.0.1:${port + 40}/publications/preview`, {
    method: 'POST',
    headers: { 'x-embrik-secret': secret },
    body: JSON.stringify({ draft, publicationId }),
  })
  if (!answer.ok) throw new Error(await answer.text())
  asked.push(performance.now() - began)
}
show('its preview with all findings: median, most', `${median(asked).toFixed(1)}, ${Math.max(...asked).toFixed(1)} ms`)
leave()
await control.stop()
await r.stop()

// As many that speak on change, and nothing changes.
r = await rig(PUBLICATIONS, 3, 'each', { kind: 'change' })
const then = Date.now()
r.engine.table.apply({ handles: r.handles, values: r.handles.map(() => 1), statuses: r.handles.map(() => 0), times: r.handles.map(() => then) })
await sleep(10_000)
// Nothing of the bench itself runs meanwhile: it would be half of what is measured.
const profile = process.env.EMBRIK_BENCH_PROFILE ? await profiled() : null
const used = process.cpuUsage()
const since = performance.now()
await sleep(SECONDS * 2000)
const { user, system } = process.cpuUsage(used)
show('idle: on change, and nothing changes', `${((user + system) / 10 / (performance.now() - since)).toFixed(2)} % of a core`)
await profile?.()
await r.stop()
process.exit(0)
