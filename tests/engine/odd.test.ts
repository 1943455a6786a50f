import { afterEach, expect, it } from 'vitest'
import { countOf, oddVerdicts } from '~/core/proof/odd'
import { oddBetween } from '~/store/odd'
import { scene } from './scene'

type Scene = Awaited<ReturnType<typeof scene>>
let s: Scene
afterEach(() => s.end())

it('every message that did not arrive as it should is listed once, under its verdict and in its span of time', { timeout: 300_000 }, async () => {
  s = await scene({ settings: { lateS: 2 }, zones: 5 })
  const before = Date.now()
  s.faults({ drop: 0.1, double: 0.1, alter: 0.1, seed: 4 })
  for (let i = 0; i < 60; i++) {
    s.change()
    await new Promise((next) => setImmediate(next))
  }
  await s.settled(120)
  s.faults({})
  await s.engine.ledger.flush()
  await s.engine.ledger.flush()
  const delivery = s.delivery()
  const account = s.engine.ledger.account(delivery)
  const expected = new Map<string, number[]>()
  for (let seq = 1; seq <= account.numberedThrough; seq++) {
    const verdict = account.verdict(seq)!
    if (verdict !== 'confirmed') expected.set(verdict, [...(expected.get(verdict) ?? []), seq])
  }
  expect([...expected.keys()]).toEqual(expect.arrayContaining(['missing', 'doubled', 'altered']))
  const hour = 3_600_000
  const found = await oddBetween(s.t.db, delivery, before - hour, before + hour)
  const listed = new Map(
    found.map(({ verdict, runs }) => [verdict as string, runs.flatMap(([a, b]) => Array.from({ length: b - a + 1 }, (_, i) => a + i))]),
  )
  expect(listed).toEqual(expected)
  for (const f of found) expect(f.count).toBe(countOf(f.runs))
  expect(found.map((f) => f.verdict)).toEqual(oddVerdicts.filter((v) => expected.has(v)))
  // Slice by slice it is the same, each in one of them.
  const slices = await s.t.db.selectFrom('ledger_slice').select('start').where('delivery', '=', delivery).execute()
  const parts = await Promise.all(slices.map(({ start }) => oddBetween(s.t.db, delivery, start, start + 1)))
  const sums = new Map<string, number>()
  for (const { verdict, count } of parts.flat()) sums.set(verdict, (sums.get(verdict) ?? 0) + count)
  expect(sums).toEqual(new Map([...expected].map(([v, list]) => [v, list.length])))
  expect(await oddBetween(s.t.db, delivery, before - 3 * hour, before - 2 * hour)).toEqual([])
})
