import { afterAll, beforeAll, expect, it } from 'vitest'
import { verdicts } from '~/core/delivery/verdict'
import { randomFaults } from './random-faults'
import { freshDatabase } from './support'

const TOTAL = 100_000

let t: Awaited<ReturnType<typeof freshDatabase>>
beforeAll(async () => {
  t = await freshDatabase()
})
afterAll(() => t.drop())

it('a hundred thousand messages, dropped, doubled, delayed, reordered and altered by chance: every verdict is what the broker did', async () => {
  const seed = Number(process.env.EMBRIK_SEED ?? Math.floor(Math.random() * 1e9))
  const outcomes = await randomFaults(t, TOTAL, seed)
  for (const o of outcomes) {
    const said = `${o.name}, seed ${seed}, should be ${JSON.stringify(o.should)}`
    expect(o.wrong.slice(0, 10), said).toEqual([])
    expect(o.wrongAfterRestart, said).toBe(0)
    expect(o.foreign.is, said).toBe(o.foreign.should)
    // The same on the wall: every message in its slice, under its verdict.
    expect(o.onTheWall.made, said).toBe(Math.floor(TOTAL / 6))
    expect(o.onTheWall.waiting, said).toBe(0)
    expect(o.onTheWall.byVerdict, said).toEqual({ foreign: o.counts.foreign, ...Object.fromEntries(verdicts.map((v) => [v, o.counts[v]])) })
    // The faults did happen.
    for (const v of ['missing', 'doubled', 'disordered', 'late'] as const) expect(o.should[v], said).toBeGreaterThan(0)
    if (o.name.startsWith('MQTT 5')) expect(o.should.altered, said).toBeGreaterThan(0)
    // So near to a limit that both verdicts are right: more of them where the machine is busy. Enough are left that only one fits.
    expect(Math.floor(TOTAL / 6) - (o.should.either ?? 0), said).toBeGreaterThan(TOTAL / 6 / 10)
  }
}, 1_800_000)
