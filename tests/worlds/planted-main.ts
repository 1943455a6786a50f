// How many worlds each planted mistake takes: `planted-main [MOST] [NUMBER]`.
import { muteLog } from '~/engine/log'
import { mistakes, plant } from './planted'
import { runSeed } from './world'

muteLog()
const most = Number(process.argv[2] ?? 2000)
const only = process.argv[3]
let missed = 0
for (const [i, m] of mistakes.entries()) {
  if (only !== undefined && Number(only) !== i) continue
  const mend = plant(m)
  let found: string | null = null
  let n = 0
  try {
    while (n < most && found === null) {
      const o = await runSeed(1_000_000 + n++).catch((e: unknown) => ({ problems: [String(e)] }))
      found = o.problems[0] ?? null
    }
  } finally {
    mend()
  }
  if (found === null) missed++
  console.log(
    `${String(i).padStart(2)} ${found === null ? `NOT FOUND in ${n}` : `found in ${n}`}: ${m.name}${found ? ` (${found.slice(0, 110)})` : ''}`,
  )
}
console.log(`${mistakes.length - missed} of ${mistakes.length} found`)
