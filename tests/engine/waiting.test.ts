import { afterEach, expect, it } from 'vitest'
import { Engine } from '~/engine/engine'
import { openDatabase } from '~/store/database'
import { pause, scene } from './scene'
import { until } from './support'

let s: Awaited<ReturnType<typeof scene>>
afterEach(() => s.end())

it('what waits is looked at, opened, skipped and cleared while the link is away; the rest arrives, and every message has its verdict', {
  timeout: 120_000,
}, async () => {
  s = await scene({
    broker: { keyOf: (m) => (m.topic.startsWith('varnmoor/one/') ? m.payload.toString() : null) },
    publication: { topic: 'varnmoor/one/{unit}' },
    zones: 3,
  })
  s.gate.cut(60)
  await until(() => s.destination().present().state !== 'running', 'the cut')
  s.change(100)
  const { waiting } = s.engine
  await until(async () => (await waiting.list(s.destinationId, 0)).messages.length === 100, 'them to be stored')
  const first = await waiting.list(s.destinationId, 0)
  expect(first.waiting).toBe(300)
  const rest = [...first.messages, ...(await waiting.list(s.destinationId, 100)).messages, ...(await waiting.list(s.destinationId, 200)).messages]
  expect(rest).toHaveLength(300)
  expect(new Set(rest.map((m) => m.seq)).size).toBe(300)
  expect(await waiting.list(s.destinationId, 300)).toMatchObject({ messages: [] })

  const one = rest[7]!
  const whole = await waiting.open(s.destinationId, one.delivery, one.seq)
  expect(whole).toMatchObject({ topic: one.topic, octets: one.octets, publicationId: s.publicationId })
  expect(whole.message.read).toMatchObject({ problem: '', readings: [expect.objectContaining({ member: 'n' })] })
  await expect(waiting.open(s.destinationId, one.delivery, 999_999)).rejects.toMatchObject({ failure: { code: 'outbox.gone' } })

  expect(await waiting.clear(s.destinationId, { message: { delivery: one.delivery, seq: one.seq } })).toBe(1)
  expect(await waiting.clear(s.destinationId, { message: { delivery: one.delivery, seq: one.seq } })).toBe(0)
  expect((await waiting.list(s.destinationId, 0)).waiting).toBe(299)
  s.gate.mend()
  await s.settled()
  expect(s.counts()).toMatchObject({ produced: 300, dropped: 1, arrived: 299, missing: 0, unknown: 0, doubled: 0, disordered: 0 })
  expect(s.b.broker.truth.arrivals.filter((a) => a.key !== null)).toHaveLength(299)

  s.gate.cut(60)
  await until(() => s.destination().present().state !== 'running', 'the second cut')
  s.change(50)
  await until(async () => (await waiting.list(s.destinationId, 0)).messages.length === 100, 'them to be stored')
  expect(await waiting.clear(s.destinationId, { publicationId: s.publicationId })).toBe(150)
  s.change()
  s.gate.mend()
  await s.settled()
  expect(s.counts()).toMatchObject({ produced: 453, dropped: 151, arrived: 302, missing: 0, unknown: 0 })
  await until(async () => (await s.events('outbox.cleared')).length > 0, 'it to be told')
})

it('nothing that is on the wire is cleared: while messages flow what is cleared and what arrives are all there were', {
  timeout: 120_000,
}, async () => {
  s = await scene({ publication: { topic: 'varnmoor/one/{unit}' }, zones: 5 })
  const still = s.feed(1)
  let cleared = 0
  for (let i = 0; i < 40; i++) {
    cleared += await s.engine.waiting.clear(s.destinationId, {})
    await pause(25)
  }
  still()
  await s.settled()
  const counts = s.counts()!
  expect(counts).toMatchObject({ missing: 0, doubled: 0, disordered: 0, unknown: 0 })
  expect(counts.dropped).toBe(cleared)
  expect(counts.arrived + counts.dropped).toBe(counts.produced)
})

it('what was cleared in the middle stays so over a new start', { timeout: 120_000 }, async () => {
  s = await scene({ publication: { topic: 'varnmoor/one/{unit}' }, zones: 3 })
  s.gate.cut(60)
  await until(() => s.destination().present().state !== 'running', 'the cut')
  s.change(10)
  const { waiting } = s.engine
  await until(async () => (await waiting.list(s.destinationId, 0)).messages.length === 30, 'them to be stored')
  const { messages } = await waiting.list(s.destinationId, 0)
  for (const m of [messages[5]!, messages[6]!, messages[20]!]) expect(await waiting.clear(s.destinationId, { message: m })).toBe(1)
  await s.engine.stop()
  const db = openDatabase(s.t.url, 6)
  const engine = new Engine({ db, url: s.t.url, vault: s.t.vault, workFolder: s.engine.options.workFolder })
  try {
    await engine.start()
    s.gate.mend()
    const account = () => engine.ledger.countsOf(messages[0]!.delivery)
    await until(
      () => (account()?.arrived ?? 0) >= 27,
      () => JSON.stringify(account()),
      60,
    )
    await pause(500)
    expect(account()).toMatchObject({ produced: 30, dropped: 3, arrived: 27, missing: 0, unknown: 0 })
    const sent = new Set(s.b.broker.truth.arrivals.filter((a) => a.topic.startsWith('varnmoor/one/')).map((a) => a.key))
    expect(sent.size).toBe(27)
  } finally {
    await engine.stop()
    await db.destroy()
  }
})

it('what waited goes out as slowly as is said, in order, and what comes then behind it at once', { timeout: 120_000 }, async () => {
  s = await scene({ settings: { drainPerS: 100 }, zones: 3 })
  s.gate.cut(60)
  await until(() => s.destination().present().state !== 'running', 'the cut')
  s.change(100)
  await until(async () => (await s.engine.waiting.list(s.destinationId, 0)).waiting === 300, 'them to be stored')
  const began = performance.now()
  s.gate.mend()
  await until(() => (s.counts()?.acknowledged ?? 0) >= 50, 'it to begin')
  const half = s.counts()!.acknowledged
  expect(half).toBeLessThan(290)
  await until(() => s.counts()!.acknowledged === 300, 'all that waited', 30)
  // 300 at 100 a second, less the burst with which it begins.
  expect(performance.now() - began).toBeGreaterThan(2800)
  const live = performance.now()
  s.change(100)
  await until(() => s.counts()!.acknowledged === 600, 'what came then', 30)
  expect(performance.now() - live).toBeLessThan(2800)
  await s.settled()
  expect(s.counts()).toMatchObject({ produced: 600, arrived: 600, disordered: 0, doubled: 0, dropped: 0 })
})
