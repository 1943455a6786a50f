import { cpus } from 'node:os'
import { Worker } from 'node:worker_threads'
import { beforeAll, expect, it } from 'vitest'
import { bundled } from '../bundle'
import { FEW } from './few'

// Worlds run in threads of their own, bundled once: nothing in them waits for anything real.

const SEEDS = Number(process.env.EMBRIK_WORLDS ?? 300)
/** New worlds every time, unless somebody names where to begin: a landing must not depend on luck. */
const FIRST = Number(process.env.EMBRIK_WORLDS_FROM ?? Math.floor(Math.random() * 1e9))
/** They get what other tests leave of the machine. */
const LONG = 1_800_000
let file: string
let few: string

interface Told {
  wrong: string[]
  lines: string[]
}

beforeAll(async () => {
  file = await bundled('tests/worlds/thread.ts', 'worlds-thread.mjs')
  few = await bundled('tests/worlds/thread.ts', 'worlds-few.mjs', FEW)
})

function inThread(task: object, of = file): Promise<Told> {
  return new Promise((done, failed) => {
    const worker = new Worker(of, { workerData: task })
    worker.once('message', done)
    worker.once('error', failed)
  })
}

it(`${SEEDS} histories of five minutes, from seed ${FIRST} on: nothing is wrong in any`, { timeout: LONG }, async () => {
  const threads = Math.max(1, Math.min(2, cpus().length))
  const each = Math.ceil(SEEDS / threads)
  const told = await Promise.all(Array.from({ length: threads }, (_, i) => inThread({ kind: 'worlds', from: FIRST + i * each, count: each })))
  const wrong = told.flatMap((t) => t.wrong)
  // The seeds first: reports are cut at their beginning.
  expect(wrong, wrong.map((w) => w.slice(0, 200)).join('\n')).toEqual([])
})

it('worlds that were wrong once are right', { timeout: LONG }, async () => {
  expect((await inThread({ kind: 'kept' })).wrong).toEqual([])
})

it('histories in which packet identifiers are used up every hundred messages: nothing is wrong in any', { timeout: LONG }, async () => {
  const told = await Promise.all([0, 1].map((i) => inThread({ kind: 'worlds', from: FIRST + i * 50, count: 50 }, few)))
  const wrong = told.flatMap((t) => t.wrong)
  expect(wrong, wrong.map((w) => w.slice(0, 200)).join('\n')).toEqual([])
})

it('histories in which the database comes back from a copy: no number is given twice, nothing is wrong', { timeout: LONG }, async () => {
  const told = await Promise.all([0, 1].map((i) => inThread({ kind: 'restores', from: 240_000_001 + i * 75, count: 75 })))
  expect(told.flatMap((t) => t.wrong)).toEqual([])
})

it('mistakes that somebody could make in delivery are found', { timeout: LONG }, async () => {
  const parts = [0, 1].map(async (part) => [
    await inThread({ kind: 'mistakes', part, most: 60, few: false }),
    await inThread({ kind: 'mistakes', part, most: 150, few: true }, few),
  ])
  const told = (await Promise.all(parts)).flat()
  for (const line of told.flatMap((t) => t.lines)) console.log(line)
  expect(told.flatMap((t) => t.wrong)).toEqual([])
})

it('a world runs the same again from its seed', { timeout: LONG }, async () => {
  const [a, b] = await Promise.all([inThread({ kind: 'story', from: 4711 }), inThread({ kind: 'story', from: 4711 })])
  expect(a.lines.length).toBeGreaterThan(3)
  expect(a.lines).toEqual(b.lines)
})
