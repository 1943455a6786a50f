import { afterEach, expect, it } from 'vitest'
import { newId } from '~/contract/id'
import { TagDraft } from '~/contract/tag'
import { LiveTable } from '../live/table'
import { Simulation } from './simulation'

let simulation: Simulation | null = null
afterEach(() => simulation?.stop())

const tag = (handle: number, signal: string) => ({
  ...TagDraft.parse({ name: `t${handle}`, sourceId: newId(), address: 'x', dataType: 'number', simulated: true, signal }),
  ...{ id: newId(), handle, version: 1 },
})
async function until(look: () => boolean): Promise<void> {
  const end = performance.now() + 20_000
  while (!look()) {
    if (performance.now() > end) throw new Error('waited in vain')
    await new Promise((done) => setTimeout(done, 5))
  }
}

/** A table with two tags on one signal, with what each was. */
function two(signal: string) {
  const table = new LiveTable()
  const was = new Map<number, number[]>([
    [1, []],
    [2, []],
  ])
  table.onBatch((handles) => {
    for (const h of handles) was.get(h)?.push(table.value[h] as number)
  })
  simulation = new Simulation(table)
  simulation.take([tag(1, signal), tag(2, signal)])
  return { table, was: (h: number) => was.get(h)!, simulation }
}

it('a tag moves so many times as fast and is told as often, the others as ever, and then it goes on from where it is', async () => {
  const { was, simulation: s } = two('ramp low=0 high=1000000 period=1000000')
  await until(() => was(1).length >= 2)
  expect(s.pace(new Set([1, 99]), 20)).toBe(1)
  const [from, other] = [was(1).length, was(2).length]
  const begun = was(1).at(-1)!
  await until(() => was(2).length >= other + 4)
  // Twice a second otherwise: some may be late where much goes on.
  expect(was(1).length - from).toBeGreaterThan(3 * (was(2).length - other))
  const moved = was(1).at(-1)! - begun
  expect(moved).toBeGreaterThan(10 * (was(2).at(-1)! - was(2)[other - 1]!))
  expect(s.pace(new Set(), 1)).toBe(0)
  const after = was(1).length
  const at = was(1).at(-1)!
  await until(() => was(1).length >= after + 2)
  expect(was(1).at(-1)! - at).toBeLessThan(moved / 3)
  // It never went back.
  expect([...was(1)].sort((a, b) => a - b)).toEqual(was(1))
})

it('of what it does not compute it moves nothing', () => {
  const { simulation: s } = two('ramp low=0 high=100 period=10')
  expect(s.pace(new Set([50]), 10)).toBe(0)
  expect(s.pace(new Set([1, 2]), 10)).toBe(2)
})
