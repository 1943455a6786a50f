import { expect, it } from 'vitest'
import { HeldRows } from './held-rows'

function rows(beyond: 'drop the oldest' | 'drop the newest', write: (batch: readonly number[]) => Promise<void>) {
  return new HeldRows<number>({ what: 'numbers', everyMs: 3_600_000, most: 3, beyond, write })
}

it('what could not be written goes with the next, in order', async () => {
  const written: number[] = []
  let away = true
  const held = rows('drop the oldest', async (batch) => {
    if (away) throw new Error('the database is away')
    written.push(...batch)
  })
  held.add(1)
  await held.flush()
  held.add(2)
  away = false
  await held.close()
  expect(written).toEqual([1, 2])
})

it.each([
  ['drop the oldest', [3, 4, 5]],
  ['drop the newest', [1, 2, 3]],
] as const)('beyond the most: %s', async (beyond, left) => {
  const written: number[] = []
  const held = rows(beyond, async (batch) => void written.push(...batch))
  for (const n of [1, 2, 3, 4, 5]) held.add(n)
  await held.close()
  expect(written).toEqual(left)
})

it('closing waits for the write under way, and writes what came meanwhile', async () => {
  const written: number[] = []
  let go: () => void = () => undefined
  const gate = new Promise<void>((done) => {
    go = done
  })
  const held = rows('drop the oldest', async (batch) => {
    await gate
    written.push(...batch)
  })
  held.add(1)
  void held.flush()
  held.add(2)
  const closed = held.close()
  go()
  await closed
  expect(written).toEqual([1, 2])
})
