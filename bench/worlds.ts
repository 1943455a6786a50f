// Simulated worlds: none may be wrong; then how many worlds each planted mistake takes until it is found. Seeds are new each time.
import { muteLog } from '~/engine/log'
import { mistakes, plant } from '../tests/worlds/planted'
import { runSeed } from '../tests/worlds/world'

muteLog()
const worlds = Number(process.env.EMBRIK_WORLDS ?? 50_000)
const first = Number(process.env.EMBRIK_SEED ?? Math.floor(Math.random() * 1e9))
const most = 2000
const began = process.cpuUsage()
const verdicts: Record<string, number> = {}
let wrong = 0
let messages = 0
for (let seed = first; seed < first + worlds; seed++) {
  const o = await runSeed(seed)
  messages += o.messages
  for (const [k, n] of Object.entries(o.verdicts)) verdicts[k] = (verdicts[k] ?? 0) + n
  if (o.problems.length === 0) continue
  wrong++
  console.log(`  seed ${seed}: ${o.problems[0]}`)
}
const used = process.cpuUsage(began)
console.log(`  ${worlds} worlds from seed ${first}: ${wrong} wrong, ${messages} messages, ${((used.user + used.system) / 1e6).toFixed(0)} s of CPU`)
console.log(`  ${JSON.stringify(verdicts)}`)
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
