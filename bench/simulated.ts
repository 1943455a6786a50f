// What an engine takes with 50,000 simulated tags that change 20,000 times a second in all: a process of its own, nothing else in it.
import { Engine } from '~/engine/engine'
import { databaseUrl } from '~/store/database'
import { addSource } from '~/store/source'
import { addTags } from '~/store/tag-edit'
import { Vault } from '~/store/vault'
import { emptyDatabase, show, sleep } from './common'

const TAGS = 50_000
const RATE_MS = 2500
const SECONDS = Number(process.env.EMBRIK_BENCH_SECONDS ?? 6) * 5

const db = await emptyDatabase()
const vault = new Vault(Buffer.alloc(32, 7))
const { id } = await addSource(db, vault, {
  name: 'many',
  kind: 'simulated',
  enabled: true,
  settings: { seed: 1, recording: '', rateMs: RATE_MS, retryMs: 1000 },
})
const adding = performance.now()
for (let at = 0; at < TAGS; at += 25_000)
  await addTags(
    db,
    Array.from({ length: 25_000 }, (_, i) => ({
      name: `Line ${Math.floor((at + i) / 500)}/point ${at + i}`,
      sourceId: id,
      address: 'noise low=0 high=100',
      dataType: 'number' as const,
    })),
  )
show('50,000 tags added', `${((performance.now() - adding) / 1000).toFixed(1)} s`)
const engine = new Engine({ db, url: databaseUrl(), vault, workFolder: '/tmp' })
const starting = performance.now()
await engine.start()
show('engine with 50,000 tags started', `${((performance.now() - starting) / 1000).toFixed(1)} s`)
await sleep(RATE_MS * 2)
let changes = 0
const stop = engine.table.onBatch((handles) => {
  changes += handles.length
})
const cpu = process.cpuUsage()
const began = performance.now()
// How late the event loop is: what everything else in the engine would have to wait.
const late: number[] = []
while (performance.now() - began < SECONDS * 1000) {
  const asked = performance.now()
  await sleep(20)
  late.push(performance.now() - asked - 20)
}
stop()
const seconds = (performance.now() - began) / 1000
const used = process.cpuUsage(cpu)
late.sort((a, b) => a - b)
show('50,000 simulated tags: changes/s', Math.round(changes / seconds).toLocaleString('en'))
show('CPU of the engine meanwhile, of one core', `${(((used.user + used.system) / 1e6 / seconds) * 100).toFixed(0)} %`)
show('event loop late, p50 and p99', `${late[Math.floor(late.length / 2)]!.toFixed(1)} ms, ${late[Math.floor(late.length * 0.99)]!.toFixed(1)} ms`)
show(
  'memory of the engine: resident, of it heap',
  `${Math.round(process.memoryUsage().rss / 1e6)} MB, ${Math.round(process.memoryUsage().heapUsed / 1e6)} MB`,
)
await engine.stop()
await db.destroy()
process.exit(0)
