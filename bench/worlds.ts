// Simulated worlds: none may be wrong; then how many worlds each planted mistake takes until it is found. Seeds are new each time.
import { cpus } from 'node:os'
import { Worker } from 'node:worker_threads'
import { muteLog } from '~/engine/log'
import { bundled } from '../tests/bundle'
import { mistakes, plant } from '../tests/worlds/planted'
import { runSeed } from '../tests/worlds/world'

muteLog()
const worlds = Number(process.env.EMBRIK_WORLDS ?? 50_000)
const first = Number(process.env.EMBRIK_SEED ?? Math.floor(Math.random() * 1e9))
/** So many at a time in one thread. */
const PART = 500
const TOLD_EVERY = 5000
const most = 2000

const file = await bundled('tests/worlds/thread.ts', 'worlds-bench.mjs')
const began = process.cpuUsage()
const sums: Record<string, number> = {}
let wrong = 0
let next = first
let done = 0

async function part(from: number, count: number): Promise<void> {
  const told = await new Promise<{ wrong: string[]; lines: string[] }>((answer, failed) => {
    const worker = new Worker(file, { workerData: { kind: 'worlds', from, count } })
    worker.once('message', answer)
    worker.once('error', failed)
  })
  for (const w of told.wrong) console.log(`  ${w.slice(0, 400)}`)
  wrong += told.wrong.length
  for (const [k, n] of Object.entries(JSON.parse(told.lines[0]!) as Record<string, number>)) sums[k] = (sums[k] ?? 0) + n
  done += count
  if (Math.floor(done / TOLD_EVERY) > Math.floor((done - count) / TOLD_EVERY)) console.log(`  ${done} worlds, ${wrong} wrong`)
}

await Promise.all(
  cpus().map(async () => {
    while (next < first + worlds) {
      const from = next
      next = Math.min(first + worlds, from + PART)
      await part(from, next - from)
    }
  }),
)
const used = process.cpuUsage(began)
console.log(`  ${worlds} worlds from seed ${first}: ${wrong} wrong, ${((used.user + used.system) / 1e6).toFixed(0)} s of CPU`)
console.log(`  ${JSON.stringify(sums)}`)
for (const m of mistakes) {
  const mend = plant(m)
  let found: string | null = null
  let n = 0
  while (n < most && found === null) {
    const o = await runSeed(first + n++).catch((e: unknown) => ({ problems: [String(e)] }))
    found = o.problems[0] ?? null
  }
  mend()
  console.log(`  ${found === null ? `NOT FOUND in ${n}` : `found in world ${n}`}: ${m.name}`)
}
