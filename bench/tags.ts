// What an engine takes with 1,000 tags that change once a second: a process of its own, nothing else in it.
import { rig, show, sleep } from './common'

const SECONDS = Number(process.env.EMBRIK_BENCH_SECONDS ?? 6) * 3
const r = await rig(100, 10)
const counts = () => r.engine.ledger.countsOf(r.delivery)!
await sleep(2000)
const before = counts().arrived
const cpu = process.cpuUsage()
const began = performance.now()
let turn = 0
while (performance.now() - began < SECONDS * 1000) {
  // A tenth of the tags every tenth of a second, as devices do: not all at once.
  const part = r.handles.filter((_, i) => i % 10 === turn % 10)
  const now = Date.now()
  r.engine.table.apply({ handles: part, values: part.map(() => turn), statuses: part.map(() => 0), times: part.map(() => now) })
  turn++
  await sleep(Math.max(0, turn * 100 - (performance.now() - began)))
}
const seconds = (performance.now() - began) / 1000
const used = process.cpuUsage(cpu)
while (counts().waiting > 0) await sleep(20)
show('1,000 tags, each changing once a second: values/s, messages/s', `1,000, ${Math.round((counts().arrived - before) / seconds)}`)
show('CPU of the engine meanwhile, of one core', `${(((used.user + used.system) / 1e6 / seconds) * 100).toFixed(0)} %`)
show(
  'memory of the engine: resident, of it heap',
  `${Math.round(process.memoryUsage().rss / 1e6)} MB, ${Math.round(process.memoryUsage().heapUsed / 1e6)} MB`,
)
await r.stop()
process.exit(0)
