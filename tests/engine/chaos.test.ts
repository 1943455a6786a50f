import { beforeAll, expect, it } from 'vitest'
import { chaos } from './chaos'
import { flowingProgram } from './flowing'

const SECONDS = 75

let program: string
beforeAll(async () => {
  program = await flowingProgram()
})

it('whatever goes wrong, every message has its verdict, and it is that of what lies at the far end', { timeout: 1_800_000 }, async () => {
  const seed = Number(process.env.EMBRIK_SEED ?? Math.floor(Math.random() * 1e9))
  const { wrong, sums, said } = await chaos({ program, seconds: SECONDS, seed, waitS: 400 })
  console.info(`chaos, seed ${seed}: ${JSON.stringify(sums)}`)
  expect(wrong, said).toEqual([])
  expect(sums.stored, said).toBeGreaterThan(SECONDS * 500)
  // Nobody may say of many that nobody can say.
  expect(sums.unknown ?? 0, said).toBeLessThan(sums.stored! * 0.02)
})
