import { parentPort, workerData } from 'node:worker_threads'
import { muteLog } from '~/engine/log'
import { kept } from './kept'
import { mistakes, plant } from './planted'
import { draw } from './script'
import { fewest } from './shrink'
import { runOldSeed, runSeed, World } from './world'

const task = workerData as
  | { kind: 'worlds'; from: number; count: number }
  | { kind: 'mistakes'; part: number; most: number; few: boolean }
  | { kind: 'restores'; from: number; count: number }
  | { kind: 'kept' }
  | { kind: 'story'; from: number }

muteLog()
const wrong: string[] = []
const lines: string[] = []

if (task.kind === 'worlds') {
  const sums: Record<string, number> = {}
  for (let seed = task.from; seed < task.from + task.count && wrong.length < 3; seed++) {
    const o = await runSeed(seed)
    sums.messages = (sums.messages ?? 0) + o.messages
    for (const [verdict, n] of Object.entries(o.verdicts)) sums[verdict] = (sums[verdict] ?? 0) + n
    if (o.problems.length === 0) continue
    // What remains when nothing more can be left out tells the story.
    const least = await fewest(seed, draw(seed, 5))
    wrong.push(`seed ${seed}: ${o.problems.join(' | ')}\n${least.story.join('\n')}`)
  }
  lines.push(JSON.stringify(sums))
} else if (task.kind === 'mistakes') {
  for (const [i, m] of mistakes.entries()) {
    if (i % 2 !== task.part || m.rare || Boolean(m.few) !== task.few) continue
    const mend = plant(m)
    let found: string | null = null
    let n = 0
    while (n < task.most && found === null) {
      const o = await runSeed(1_000_000 + n++).catch((e: unknown) => ({ problems: [String(e)] }))
      found = o.problems[0] ?? null
    }
    mend()
    lines.push(`${found === null ? `not found in ${n} worlds` : `found in world ${n}`}: ${m.name}`)
    if (found === null) wrong.push(m.name)
  }
} else if (task.kind === 'restores') {
  for (let seed = task.from; seed < task.from + task.count; seed++) {
    const o = await runSeed(seed, 5, true)
    if (o.problems.length > 0) wrong.push(`seed ${seed}: ${o.problems.join(' | ')}`)
  }
} else if (task.kind === 'kept') {
  for (const [seed, what, old] of kept) {
    const o = old ? await runOldSeed(seed) : await runSeed(seed)
    if (o.problems.length > 0) wrong.push(`seed ${seed} (${what}): ${o.problems.join(' | ')}`)
  }
} else {
  const o = await new World(task.from).run(draw(task.from, 5), 5)
  lines.push(...o.story, JSON.stringify(o.verdicts), String(o.events))
}
parentPort!.postMessage({ wrong, lines })
