// Runs worlds by hand: `main FROM COUNT [story]`.
import { muteLog } from '~/engine/log'
import { draw } from './script'
import { World } from './world'

muteLog()
const [from = '1', count = '100', story, key] = process.argv.slice(2)
const began = process.cpuUsage()
let wrong = 0
let messages = 0
let events = 0
const sums: Record<string, number> = {}
for (let seed = Number(from); seed < Number(from) + Number(count); seed++) {
  const w = new World(seed)
  const o = await w.run(draw(seed, 5), 5)
  if (key) {
    const m = w.oracle.stored.get(key)!
    console.log(
      m,
      w.broker.arrivals.filter((a) => a.key === m.key),
      w.broker.copies.get(m.key),
    )
  }
  messages += o.messages
  events += o.events
  for (const [k, n] of Object.entries(o.verdicts)) sums[k] = (sums[k] ?? 0) + n
  const done = seed + 1 - Number(from)
  if (done % 1000 === 0 && done < Number(count)) console.log(`${done} worlds, ${wrong} wrong`)
  if (o.problems.length === 0) continue
  wrong++
  if (story === 'story') console.log(o.story.join('\n'))
  console.log(`seed ${seed}: ${o.problems.slice(0, 3).join(' | ')}`)
}
const cpu = process.cpuUsage(began)
console.log(
  `${count} worlds, ${wrong} wrong, ${messages} messages, ${events} events, ${((cpu.user + cpu.system) / 1e6).toFixed(1)} s of CPU; ${JSON.stringify(sums)}`,
)
