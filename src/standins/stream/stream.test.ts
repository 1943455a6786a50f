import { mkdtempSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { MessagesStreamModes, Consumer as OtherConsumer } from '@platformatic/kafka'
import { CompressionTypes, Kafka, type KafkaConfig, logLevel, Partitioners, type SASLOptions } from 'kafkajs'
import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest'
import { demoPki } from '../pki'
import { Stream } from './stream'

const users = { embrik: 'kiln-7-glows', reader: 'only, reads=here' }
const permissions = { reader: { write: [], read: ['varnmoor.'] } }
const soon = (check: () => void) => vi.waitFor(check, { timeout: 8000, interval: 20 })

let stream: Stream
let cleanUp: (() => Promise<unknown>)[] = []
const start = async (o: Partial<Parameters<typeof Stream.start>[0]> = {}) => {
  stream = await Stream.start({ listeners: [{ name: 'plain', ports: [0, 0] }], topics: { 'varnmoor.kiln': 3, 'varnmoor.one': 1 }, ...o })
}
beforeEach(() => {
  cleanUp = []
})
afterEach(async () => {
  for (const clean of cleanUp.reverse()) await clean().catch(() => undefined)
  await stream.stop()
})

const client = (part: Partial<KafkaConfig> = {}, listener = 'plain') =>
  new Kafka({
    clientId: 'test',
    brokers: stream.places(listener),
    logLevel: logLevel.NOTHING,
    retry: { initialRetryTime: 30, maxRetryTime: 300, retries: 8 },
    ...part,
  })
async function producer(kafka = client(), o: { idempotent?: boolean } = {}) {
  const made = kafka.producer({ createPartitioner: Partitioners.DefaultPartitioner, ...(o.idempotent && { maxInFlightRequests: 1 }), ...o })
  cleanUp.push(() => made.disconnect())
  await made.connect()
  return made
}
/** Everything of a topic, as another client reads it in a group. */
async function reading(topic: string, kafka = client()) {
  const seen: { partition: number; offset: string; key: string | undefined; value: string | null; id: string | undefined }[] = []
  const consumer = kafka.consumer({ groupId: `g-${Math.random()}`, sessionTimeout: 6000, heartbeatInterval: 500, maxWaitTimeInMs: 200 })
  cleanUp.push(() => consumer.disconnect())
  await consumer.connect()
  await consumer.subscribe({ topic, fromBeginning: true })
  await consumer.run({
    eachMessage: async ({ partition, message: m }) =>
      void seen.push({
        partition,
        offset: m.offset,
        key: m.key?.toString(),
        value: m.value?.toString() ?? null,
        id: m.headers?.['embrik-id']?.toString(),
      }),
  })
  return seen
}
const failed = (work: Promise<unknown>) =>
  work.then(
    () => 'done',
    (e: { type?: string; cause?: { type?: string }; message: string }) => e.type ?? e.cause?.type ?? e.message,
  )
const messages = (from: number, count: number) =>
  Array.from({ length: count }, (_, i) => ({ key: `zone ${(from + i) % 23}`, value: `${from + i}`, headers: { 'embrik-id': `x.1.${from + i}` } }))

describe('a stream', () => {
  it('keeps what is produced, packed too, by key and in order, and a group reads all of it once', async () => {
    await start()
    const p = await producer()
    await p.send({ topic: 'varnmoor.kiln', messages: messages(0, 300), compression: CompressionTypes.GZIP })
    await p.send({ topic: 'varnmoor.kiln', messages: [{ key: 'zone 1', value: null }] })
    const seen = await reading('varnmoor.kiln')
    await soon(() => expect(seen).toHaveLength(301))
    expect(stream.truth.arrivals).toHaveLength(301)
    expect(new Set(seen.map((m) => m.partition))).toEqual(new Set([0, 1, 2]))
    for (const key of Array.from({ length: 23 }, (_, n) => `zone ${n}`)) {
      const of = seen.filter((m) => m.key === key && m.value !== null)
      expect(new Set(of.map((m) => m.partition)).size).toBe(1)
      expect(of.map((m) => Number(m.value))).toEqual([...of.map((m) => Number(m.value))].sort((a, b) => a - b))
    }
    expect(seen.filter((m) => m.value === null).map((m) => m.key)).toEqual(['zone 1'])
    expect(seen.find((m) => m.value === '17')?.id).toBe('x.1.17')
  })

  it('knows a repetition of a counted batch, whose answer was lost, from a new one', async () => {
    await start()
    stream.setFaults({ loseAnswer: 0.4, seed: 3 })
    const p = await producer(client(), { idempotent: true })
    for (let n = 0; n < 20; n++) await p.send({ topic: 'varnmoor.one', messages: messages(n * 10, 10) })
    expect(stream.truth.arrivals.map((a) => a.id)).toEqual(messages(0, 200).map((m) => m.headers['embrik-id']))
    // Who does not count sends twice.
    const careless = await producer()
    for (let n = 20; n < 40; n++) await careless.send({ topic: 'varnmoor.one', messages: messages(n * 10, 10) })
    expect(stream.truth.arrivals.length).toBeGreaterThan(400)
  })

  it('tells a missing topic, a missing permission, a message that is too large and a full disk apart', async () => {
    await start({ listeners: [{ name: 'plain', ports: [0], users }], permissions })
    const sasl: SASLOptions = { mechanism: 'plain', username: 'embrik', password: users.embrik }
    const once = { retry: { retries: 0 } }
    const p = await producer(client({ sasl, ...once }))
    const send = (topic: string, value = 'x') => failed(p.send({ topic, messages: [{ value }] }))
    expect(await send('varnmoor.none')).toBe('UNKNOWN_TOPIC_OR_PARTITION')
    stream.setFaults({ maximumBatch: 5000 })
    expect(await send('varnmoor.one', 'x'.repeat(9000))).toBe('MESSAGE_TOO_LARGE')
    stream.setFaults({ full: true })
    expect(await send('varnmoor.one')).toBe('KAFKA_STORAGE_ERROR')
    stream.setFaults({ errorOn: 'one', error: 19 })
    expect(await send('varnmoor.one')).toBe('NOT_ENOUGH_REPLICAS')
    stream.setFaults({})
    expect(await send('varnmoor.one')).toBe('done')
    const reader = await producer(client({ sasl: { mechanism: 'plain', username: 'reader', password: users.reader }, ...once }))
    expect(await failed(reader.send({ topic: 'varnmoor.one', messages: [{ value: 'x' }] }))).toBe('TOPIC_AUTHORIZATION_FAILED')
  })

  it('lets in by PLAIN and SCRAM over TLS, and nobody with a wrong password, mechanism or none', async () => {
    const pki = await demoPki(mkdtempSync(join(tmpdir(), 'embrik-stream-')))
    const listeners = [{ name: 'secure', ports: [0], users, tls: { cert: pki.broker.certificate, key: pki.broker.key } }]
    await start({ listeners })
    const ssl = { ca: [pki.ca] }
    const tryIn = async (sasl: SASLOptions | undefined) => {
      const admin = client({ ssl, ...(sasl && { sasl }), retry: { retries: 0 }, connectionTimeout: 3000 }, 'secure').admin()
      const said = await failed(admin.connect().then(() => admin.listTopics()))
      await admin.disconnect().catch(() => undefined)
      return said
    }
    for (const mechanism of ['plain', 'scram-sha-256', 'scram-sha-512'] as const)
      for (const [username, password] of Object.entries(users)) {
        expect(await tryIn({ mechanism, username, password } as SASLOptions)).toBe('done')
        expect(await tryIn({ mechanism, username, password: `${password}!` } as SASLOptions)).not.toBe('done')
      }
    expect(await tryIn({ mechanism: 'scram-sha-256', username: 'nobody', password: 'x' })).not.toBe('done')
    expect(await tryIn(undefined)).not.toBe('done')
    stream.setFaults({ refuseLogins: true })
    expect(await tryIn({ mechanism: 'plain', username: 'embrik', password: users.embrik })).not.toBe('done')
  })

  it('answers at the wrong node that another one leads, and goes on after cuts', async () => {
    await start()
    const p = await producer(client(), { idempotent: true })
    const seen = await reading('varnmoor.kiln')
    for (let n = 0; n < 12; n++) {
      await p.send({ topic: 'varnmoor.kiln', messages: messages(n * 5, 5) })
      if (n % 4 === 1) stream.moveLeaders()
      if (n % 4 === 3) stream.cut()
    }
    await soon(() => expect(new Set(seen.map((m) => m.value)).size).toBe(60))
    expect(stream.truth.arrivals).toHaveLength(60)
  })

  it('drops, doubles and alters on demand, and its log says what it did', async () => {
    await start()
    stream.setFaults({ drop: 0.1, double: 0.1, alter: 0.1, seed: 5 })
    const p = await producer()
    await p.send({ topic: 'varnmoor.one', messages: messages(0, 400) })
    stream.setFaults({})
    const of = (fate: string) => stream.truth.arrivals.filter((a) => a.fate === fate).length
    const seen = await reading('varnmoor.one')
    await soon(() => expect(seen).toHaveLength(400 - of('dropped') + of('doubled')))
    expect([of('dropped'), of('doubled'), of('altered')].every((n) => n > 10)).toBe(true)
    const right = seen.filter((m) => m.id === `x.1.${m.value}`).length
    expect(seen.length - right).toBe(of('altered'))
  })

  it('forgets the oldest, and says so to who asks for it', async () => {
    await start({ most: 100 })
    const p = await producer()
    for (let n = 0; n < 5; n++) await p.send({ topic: 'varnmoor.one', messages: messages(n * 60, 60) })
    const one = stream.topics.partition('varnmoor.one', 0)!
    expect(one.records.length).toBeLessThanOrEqual(125)
    const admin = client().admin()
    cleanUp.push(() => admin.disconnect())
    await admin.connect()
    expect(await admin.fetchTopicOffsets('varnmoor.one')).toMatchObject([{ high: '300', low: String(one.start) }])
    const seen = await reading('varnmoor.one')
    await soon(() => expect(seen.at(-1)?.value).toBe('299'))
    expect(Number(seen[0]!.value)).toBe(one.start)
  })

  it('shares the partitions of a topic among the readers of a group, and anew when one leaves', async () => {
    await start()
    const groupId = 'shared'
    const join = async (seen: string[]) => {
      const consumer = client().consumer({ groupId, sessionTimeout: 6000, heartbeatInterval: 200, rebalanceTimeout: 3000, maxWaitTimeInMs: 100 })
      cleanUp.push(() => consumer.disconnect())
      await consumer.connect()
      await consumer.subscribe({ topic: 'varnmoor.kiln', fromBeginning: true })
      await consumer.run({ autoCommitInterval: 50, eachMessage: async ({ message }) => void seen.push(message.value!.toString()) })
      return consumer
    }
    const [a, b]: [string[], string[]] = [[], []]
    const first = await join(a)
    await join(b)
    const p = await producer()
    let next = 0
    await vi.waitFor(
      async () => {
        await p.send({ topic: 'varnmoor.kiln', messages: messages(next, 20) })
        next += 20
        expect(Math.min(a.length, b.length)).toBeGreaterThan(5)
      },
      { timeout: 30_000, interval: 200 },
    )
    await first.disconnect()
    await p.send({ topic: 'varnmoor.kiln', messages: messages(next, 20) })
    next += 20
    await soon(() => expect(new Set([...a, ...b]).size).toBe(next))
  })

  it('is read by another client too, by assignment', async () => {
    await start()
    const p = await producer()
    await p.send({ topic: 'varnmoor.kiln', messages: messages(0, 50) })
    const consumer = new OtherConsumer({ groupId: 'other', clientId: 'other', bootstrapBrokers: stream.places('plain') })
    const read = await consumer.consume({
      topics: ['varnmoor.kiln'],
      mode: MessagesStreamModes.EARLIEST,
      autocommit: true,
      sessionTimeout: 10_000,
      heartbeatInterval: 500,
    })
    cleanUp.push(async () => consumer.close(true))
    const seen = new Set<string>()
    for await (const m of read) {
      seen.add(m.value.toString())
      if (seen.size === 50) break
    }
    expect(seen.size).toBe(50)
  })

  it('hangs up on what is no request, and others notice nothing', async () => {
    await start()
    const { connect } = await import('node:net')
    const [place] = stream.places('plain')
    for (const octets of [
      Buffer.from('GET / HTTP/1.1\r\n\r\n'),
      Buffer.alloc(40, 0xff),
      Buffer.from([0, 0, 0, 12, 0, 3, 0, 9, 0, 0, 0, 1, 0xff, 0xff, 0xff, 0xff]),
    ]) {
      const socket = connect(Number(place!.split(':')[1]), '127.0.0.1')
      const closed = new Promise((done) => socket.once('close', done))
      socket.on('error', () => undefined)
      socket.write(octets)
      await closed
    }
    const p = await producer()
    expect(await failed(p.send({ topic: 'varnmoor.one', messages: [{ value: 'x' }] }))).toBe('done')
  })
})
