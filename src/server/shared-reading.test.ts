import { expect, it } from 'vitest'
import { sharedReading } from './shared-reading'

/** Readings that end when the test says so. */
function readings() {
  const ends: { done(value: number): void; fail(e: Error): void }[] = []
  const read = sharedReading(() => new Promise<number>((done, fail) => ends.push({ done, fail })))
  return { read, ends }
}
const settled = () => new Promise((done) => setImmediate(done))

it('reads once for all who ask while another reading is under way, and after it', async () => {
  const { read, ends } = readings()
  const first = read()
  const later = [read(), read(), read()]
  expect(ends).toHaveLength(1)
  ends[0]!.done(1)
  expect(await first).toBe(1)
  await settled()
  // What was stored between the first question and theirs is in their answer.
  expect(ends).toHaveLength(2)
  const meanwhile = read()
  ends[1]!.done(2)
  expect(await Promise.all(later)).toEqual([2, 2, 2])
  await settled()
  ends[2]!.done(3)
  expect(await meanwhile).toBe(3)
})

it('begins anew when all have their answer, also after a failure', async () => {
  const { read, ends } = readings()
  const first = read()
  const second = read()
  ends[0]!.fail(new Error('the database is away'))
  await expect(first).rejects.toThrow('the database is away')
  await settled()
  ends[1]!.done(2)
  expect(await second).toBe(2)
  await settled()
  const third = read()
  expect(ends).toHaveLength(3)
  ends[2]!.done(3)
  expect(await third).toBe(3)
})
