// A million messages through a broker that drops, doubles, delays, reorders and alters: every verdict held against the broker's log.
import { databaseUrl } from '~/store/database'
import { randomFaults } from '../tests/engine/random-faults'
import { freshDatabase } from '../tests/engine/support'
import { perSecond, show } from './common'

const total = Number(process.env.EMBRIK_BENCH_FAULTS ?? 1_000_000)
const seed = Number(process.env.EMBRIK_SEED ?? Math.floor(Math.random() * 1e9))
const t = await freshDatabase(databaseUrl())
const began = performance.now()
const outcomes = await randomFaults(t, total, seed)
let wrong = 0
for (const o of outcomes) {
  const n = o.wrong.length + o.wrongAfterRestart + Math.abs(o.foreign.is - o.foreign.should)
  wrong += n
  show(`${o.name}: ${JSON.stringify(o.should)}, foreign ${o.foreign.should}`, n === 0 ? 'all right' : `${n} WRONG`)
  for (const w of o.wrong.slice(0, 5)) show(`  number ${w.seq}`, `is ${w.is}, should be ${w.should.join(' or ')}`)
}
show(`messages, seed ${seed}, broker and engine in one process`, `${total.toLocaleString('en')}, ${perSecond(total, performance.now() - began)}`)
show("verdicts that differ from the broker's log", String(wrong))
await t.drop()
process.exit(wrong === 0 ? 0 : 1)
