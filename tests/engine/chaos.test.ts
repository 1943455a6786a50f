import { beforeAll, expect, it } from 'vitest'
import { chaos } from './chaos'
import { flowingProgram } from './flowing'

const SECONDS = 75

let program: string
beforeAll(async () => {
  program = await flowingProgram()
})

it('whatever goes wrong, every message has its verdict, and it is that of what lies at the far end', { timeout: 1_800_000 }, async () => {
  const seed = Number(process.env.EMBRIK_CHAOS_SEED ?? process.env.EMBRIK_SEED ?? Math.floor(Math.random() * 1e9))
  const { wrong, sums, said: log } = await chaos({ program, seconds: SECONDS, seed, waitS: 400 })
  const outcome = `chaos, seed ${seed}: ${JSON.stringify(sums)}`
  console.info(outcome)
  // What it comes to first: of what failed a report may show no more than a line.
  const said = `${outcome}; ${wrong.slice(0, 3).join('; ')}\n${log}`
  expect(wrong, said).toEqual([])
  expect(sums.stored, said).toBeGreaterThan(SECONDS * 500)
  // Nobody may say of many that nobody can say. Datagrams are apart: how many this machine throws away unread is its own matter.
  expect((sums.unknown ?? 0) - (sums['unknown datagrams'] ?? 0), said).toBeLessThan(sums.stored! * 0.1)
})
