// Simulated worlds: none may be wrong; then how many worlds each planted mistake takes until it is found. Seeds are new each time.
import { cpus } from 'node:os'
import { Worker } from 'node:worker_threads'
import { muteLog } from '~/engine/log'
import { bundled } from '../tests/bundle'
import { FEW } from '../tests/worlds/few'
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

function inThread(of: string, workerData: object): Promise<{ wrong: string[]; lines: string[] }> {
  return new Promise((answer, failed) => {
    const worker = new Worker(of, { workerData })
    worker.once('message', answer)
    worker.once('error', failed)
  })
}

async function part(from: number, count: number): Promise<void> {
  const told = await inThread(file, { kind: 'worlds', from, count })
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
  if (m.few) continue
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
// Those that need identifiers to be used up, where they soon are.
const few = await bundled('tests/worlds/thread.ts', 'worlds-bench-few.mjs', FEW)
const told = await Promise.all([0, 1].map((part) => inThread(few, { kind: 'mistakes', part, most, few: true })))
for (const line of told.flatMap((t) => t.lines)) console.log(`  ${line}`)
