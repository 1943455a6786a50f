import { createHash } from 'node:crypto'
import { Kafka, logLevel } from 'kafkajs'
import { afterEach, describe, expect, it } from 'vitest'
import { StreamSettings } from '~/contract/destinations/stream'
import type { Verdict } from '~/contract/live'
import { type Envelope, messageId } from '~/core/delivery/envelope'
import { nothing, packProperties, plainJson } from '~/core/delivery/properties'
import { chance } from '~/core/value/chance'
import { Engine } from '~/engine/engine'
import type { Arrival } from '~/standins/stream/log'
import { Stream } from '~/standins/stream/stream'
import { listAsides } from '~/store/aside'
import { addDestination } from '~/store/destination'
import { allJudged, flowInto } from './lines'
import { bareDelivery } from './random-faults'
import { pause } from './scene'
import { folder, freshDatabase, until } from './support'

// A whole engine and a cluster of two nodes: the ledger against the cluster's own log, message by message.

const TOTAL = 20_000
const LATE_S = 60
const TOPICS = { 'varnmoor.kiln': 6, 'varnmoor.dryers': 3, 'varnmoor.works': 1 }
const names = Object.keys(TOPICS)

interface Made {
  seq: number
  topic: string
  key: string
  hash: string
}

let parts: { stop(): Promise<void> }[] = []
afterEach(async () => {
  for (const p of parts.reverse()) await p.stop()
  parts = []
})

async function begin(part: Partial<StreamSettings> = {}, topics: Readonly<Record<string, number>> = TOPICS) {
  const t = await freshDatabase()
  parts.push({ stop: () => t.drop() })
  const stream = await Stream.start({ listeners: [{ name: 'plain', ports: [0, 0] }], topics, most: 400_000 })
  parts.push(stream)
  const settings = StreamSettings.parse({
    servers: stream.places('plain').join(', '),
    tls: false,
    authorityId: null,
    clientId: 'embrik',
    mechanism: 'none',
    credentialId: null,
    acks: 'all',
    compression: 'none',
    lingerMs: 5,
    batchKb: 64,
    retryMs: 200,
    window: 2000,
    ackS: 5,
    witness: true,
    witnessCredentialId: null,
    lateS: LATE_S,
    outboxMb: 500,
    outboxHours: 0,
    drainPerS: 0,
    journalHours: 24,
    journalMb: 20,
    ...part,
  })
  const { id } = await addDestination(t.db, { name: 'Stream', kind: 'stream', enabled: true, settings })
  const deliveries = await Promise.all(names.map((name) => bareDelivery(t, id, name)))
  let engine = await started(t)
  const stopEngine = { stop: () => engine.stop() }
  parts.push(stopEngine)
  const destination = () => engine.destinations.get(id)!
  const up = () => until(() => destination()?.present().state === 'running' && destination().witness?.view(), 'both to be up', 60)
  await up()
  const { code: installation } = await t.db.selectFrom('installation').select('code').executeTakeFirstOrThrow()
  const made = new Map<number, Made[]>(deliveries.map((d) => [d, []]))
  const random = chance(11)

  /** Makes messages for all topics, each tenth of its delivery under one key. */
  const flow = (total: number, during?: (round: number) => void | Promise<void>) =>
    flowInto(
      { count: names.length, offer: (i, n) => offer(deliveries[i]!, names[i]!, n), waiting: () => destination()?.outbox.waiting ?? null },
      total,
      during,
    )
  function offer(delivery: number, topic: string, n: number, pad = ''): void {
    const account = engine.ledger.account(delivery)
    const envelopes: Envelope[] = []
    for (let i = 0; i < n; i++) {
      const now = Date.now()
      const { seq, turn } = account.next(now)
      const key = `unit ${seq % 10}`
      const payload = `{"n":${seq},"value":${(random() * 1000).toFixed(3)}${pad}}`
      made.get(delivery)!.push({ seq, topic, key, hash: hashOf(payload) })
      const properties = packProperties({ ...plainJson, key, headers: [['line', 'kiln 1']] })
      envelopes.push({
        delivery,
        seq,
        topic,
        payload,
        assurance: 'acknowledged',
        properties,
        deviceAt: now,
        producedAt: now,
        turn,
        madeMono: performance.now(),
      })
    }
    destination().outbox.offer(envelopes)
  }
  const settled = (seconds = 200) => allJudged(() => engine, deliveries, seconds)

  /** Whose verdict is not what the cluster's log says; `ends` says what those end as of which it knows nothing. */
  function wrong(ends: (m: Made) => readonly Verdict[] | null = () => null) {
    const byId = new Map<string, Arrival[]>()
    for (const a of stream.truth.arrivals) if (a.id !== null) byId.set(a.id, [...(byId.get(a.id) ?? []), a])
    return deliveries.flatMap((d) =>
      made.get(d)!.flatMap((m) => {
        const copies = byId.get(messageId(installation, d, m.seq)) ?? []
        const kept = copies.filter((c) => c.fate !== 'dropped').reduce((n, c) => n + (c.fate === 'doubled' ? 2 : 1), 0)
        const should =
          ends(m) ?? (copies.some((c) => c.fate === 'altered') ? ['altered'] : kept > 1 ? ['doubled'] : kept === 1 ? ['confirmed'] : ['missing'])
        const is = engine.ledger.account(d).verdict(m.seq)
        const lied = copies.some((c) => c.hash !== m.hash)
        return should.includes(is as Verdict) && !lied ? [] : [{ d, seq: m.seq, is, should }]
      }),
    )
  }
  return {
    ...{ t, stream, settings, id, deliveries, made, flow, offer, settled, wrong, up, destination },
    engine: () => engine,
    /** Stops the engine as a signal would, and starts another one. */
    async again() {
      await engine.stop()
      engine = await started(t)
    },
  }
}

async function started(t: Awaited<ReturnType<typeof freshDatabase>>): Promise<Engine> {
  const engine = new Engine({ db: t.db, url: t.url, vault: t.vault, workFolder: folder('stream') })
  await engine.start()
  return engine
}
const hashOf = (payload: string) => createHash('sha256').update(payload).digest('hex').slice(0, 16)
const counts = (s: Awaited<ReturnType<typeof begin>>) => s.deliveries.map((d) => s.engine().ledger.account(d).counts())

describe('20,000 messages to a stream', () => {
  it('arrive, each confirmed, in order by key, and another client reads just these', { timeout: 600_000 }, async () => {
    const s = await begin({ compression: 'gzip' })
    await s.flow(TOTAL)
    await s.settled()
    expect(s.wrong().slice(0, 5)).toEqual([])
    for (const c of counts(s)) expect(c).toMatchObject({ missing: 0, doubled: 0, foreign: 0, unknown: 0 })
    const kafka = new Kafka({ clientId: 'reader', brokers: s.stream.places('plain'), logLevel: logLevel.NOTHING })
    const consumer = kafka.consumer({ groupId: 'office' })
    await consumer.connect()
    await consumer.subscribe({ topics: names, fromBeginning: true })
    const last = new Map<string, number>()
    let read = 0
    const disordered: string[] = []
    await consumer.run({
      eachMessage: async ({ topic, message }) => {
        read++
        const place = `${topic} ${message.key!.toString()}`
        const { n } = JSON.parse(message.value!.toString()) as { n: number }
        if (n <= (last.get(place) ?? 0)) disordered.push(`${place} ${n}`)
        last.set(place, n)
      },
    })
    const all = [...s.made.values()].reduce((n, list) => n + list.length, 0)
    await until(() => read === all, 'another client to read all', 60)
    await consumer.disconnect()
    expect(disordered).toEqual([])
  })

  it('go through cuts, lost answers, leaders that move, a full disk and throttling: once each, nothing missing', { timeout: 900_000 }, async () => {
    const s = await begin()
    const trouble = [
      () => s.stream.cut(0.3),
      () => s.stream.setFaults({ loseAnswer: 0.3, seed: 5 }),
      () => s.stream.moveLeaders(),
      () => s.stream.setFaults({ full: true }),
      () => s.stream.setFaults({ throttleMs: 100 }),
      () => s.stream.setFaults({ slowMs: 30 }),
    ]
    await s.flow(TOTAL, async (round) => {
      await pause(30)
      if (round % 15 === 5) trouble[((round - 5) / 15) % trouble.length]!()
      else if (round % 15 === 0) s.stream.setFaults({})
    })
    s.stream.setFaults({})
    await s.settled()
    expect(s.wrong().slice(0, 5)).toEqual([])
    for (const c of counts(s)) expect(c).toMatchObject({ missing: 0, doubled: 0, altered: 0, foreign: 0 })
  })

  it('that the cluster drops, doubles or alters are found, each one', { timeout: 600_000 }, async () => {
    const s = await begin({ lateS: 20 })
    s.stream.setFaults({ drop: 0.01, double: 0.01, alter: 0.01, seed: 9 })
    await s.flow(TOTAL)
    await until(() => s.destination().outbox.waiting === 0, 'all to be acknowledged', 100)
    s.stream.setFaults({})
    await s.settled()
    expect(s.wrong().slice(0, 5)).toEqual([])
    const sum = (k: 'missing' | 'doubled' | 'altered') => counts(s).reduce((n, c) => n + c[k], 0)
    for (const k of ['missing', 'doubled', 'altered'] as const) expect(sum(k)).toBeGreaterThan(100)
  })

  it('survive an engine that is stopped and started with messages under way', { timeout: 600_000 }, async () => {
    const s = await begin()
    await s.flow(TOTAL / 2)
    await s.again()
    await s.up()
    await s.flow(TOTAL / 2)
    await s.settled()
    expect(s.wrong().slice(0, 5)).toEqual([])
  })
})

it('a key that is taken back is read as nothing under that key, and confirmed', { timeout: 900_000 }, async () => {
  const s = await begin()
  const [delivery] = s.deliveries as [number]
  const [topic] = names as [string]
  s.offer(delivery, topic, 10)
  const account = s.engine().ledger.account(delivery)
  const times = { deviceAt: Date.now(), producedAt: Date.now(), madeMono: performance.now() }
  const properties = packProperties({ ...nothing, key: 'unit 3', kept: true })
  s.destination().outbox.offer([{ delivery, ...account.next(Date.now()), topic, payload: '', assurance: 'acknowledged', properties, ...times }])
  expect(await s.destination().outbox.stored()).toBe(true)
  await s.settled()
  expect(account.counts()).toMatchObject({ confirmed: 11, altered: 0, foreign: 0 })
  const kafka = new Kafka({ clientId: 'reader', brokers: s.stream.places('plain'), logLevel: logLevel.NOTHING })
  const consumer = kafka.consumer({ groupId: 'office' })
  await consumer.connect()
  await consumer.subscribe({ topics: [topic], fromBeginning: true })
  const read: (string | null)[] = []
  await consumer.run({
    eachMessage: async ({ message }) => {
      if (message.key!.toString() === 'unit 3') read.push(message.value === null ? null : message.value.toString())
    },
  })
  await until(() => read.length === 2, 'both of that key')
  expect(read).toEqual([expect.stringContaining('"n":3,'), null])
  await consumer.disconnect()
})

it('what is too large goes aside with its reason, alone, and a topic that is not ours too; the rest goes on', { timeout: 900_000 }, async () => {
  const s = await begin({}, { 'varnmoor.kiln': 6, 'varnmoor.dryers': 3, 'varnmoor.works': 1 })
  s.stream.setFaults({ maximumBatch: 20_000 })
  const [first] = s.deliveries
  s.offer(first!, 'varnmoor.kiln', 5)
  s.offer(first!, 'varnmoor.kiln', 1, `,"text":"${'x'.repeat(30_000)}"`)
  s.offer(first!, 'varnmoor.kiln', 5)
  s.stream.setFaults({ maximumBatch: 20_000, errorOn: 'dryers', error: 29 })
  s.offer(s.deliveries[1]!, 'varnmoor.dryers', 3)
  s.offer(s.deliveries[2]!, 'varnmoor.works', 10)
  await s.settled()
  expect(s.wrong((m) => (m.seq === 6 && m.topic === 'varnmoor.kiln' ? ['rejected'] : m.topic === 'varnmoor.dryers' ? ['rejected'] : null))).toEqual(
    [],
  )
  const aside = await until(async () => {
    const list = await listAsides(s.t.db, s.id)
    return list.length === 4 ? list : null
  }, 'four to stand aside')
  expect(aside.map((a) => a.topic).sort()).toEqual(['varnmoor.dryers', 'varnmoor.dryers', 'varnmoor.dryers', 'varnmoor.kiln'])
  expect(new Set(aside.map((a) => a.code)).size).toBe(2)
  expect(aside.every((a) => a.message.length > 10 && a.hint.length > 5)).toBe(true)
})

it('a topic with too few copies rests, and the others go on; what waited goes out in order once it has them', { timeout: 900_000 }, async () => {
  const s = await begin()
  s.stream.setFaults({ errorOn: 'dryers', error: 19 })
  for (let n = 0; n < 20; n++) for (const [i, topic] of names.entries()) s.offer(s.deliveries[i]!, topic, 50)
  const acknowledged = (i: number) => s.engine().ledger.account(s.deliveries[i]!).counts().acknowledged
  await until(() => acknowledged(0) === 1000 && acknowledged(2) === 1000, 'the others to go on', 120)
  expect(acknowledged(1)).toBe(0)
  expect(s.destination().present()).toMatchObject({
    state: 'trouble',
    reason: expect.stringContaining('fewer copies are up than the topic demands; the rest goes on'),
  })
  s.stream.setFaults({})
  await s.settled()
  expect(s.wrong()).toEqual([])
  await until(() => s.destination().present().state === 'running', 'it to run again', 90)
  const kept = s.stream.truth.arrivals.filter((a) => a.topic === 'varnmoor.dryers')
  expect(kept).toHaveLength(1000)
})

it('a topic that rests and is then gone does not keep its destination in trouble: what waited for it goes aside', { timeout: 900_000 }, async () => {
  const s = await begin()
  s.stream.setFaults({ errorOn: 'dryers', error: 19 })
  s.offer(s.deliveries[1]!, 'varnmoor.dryers', 50)
  await until(() => s.destination().present().state === 'trouble', 'it to rest', 60)
  s.stream.topics.remove('varnmoor.dryers')
  s.stream.setFaults({})
  await s.settled()
  expect(s.wrong(() => ['rejected'])).toEqual([])
  s.offer(s.deliveries[0]!, 'varnmoor.kiln', 10)
  await until(() => s.destination().present().state === 'running', 'it to run again', 90)
})
