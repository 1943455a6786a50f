import { Kafka, logLevel } from 'kafkajs'
import { afterEach, describe, expect, it } from 'vitest'
import type { Failure } from '~/contract/failure'
import type { Envelope } from '~/core/delivery/envelope'
import { packProperties, plainJson } from '~/core/delivery/properties'
import { realClock } from '~/engine/clock/real-clock'
import type { Answer, DestinationSink, Remembered } from '~/engine/destinations/driver'
import { StreamCluster } from '~/engine/destinations/stream/cluster'
import { StreamFarEnd } from '~/engine/destinations/stream/far-end'
import { type SenderOptions, StreamSender } from '~/engine/destinations/stream/sender'
import { Stream, type StreamOptions } from '~/standins/stream/stream'
import { until } from './support'

const ANSWER_MS = 2000
let stream: Stream
afterEach(() => stream.stop())

const start = async (o: Partial<StreamOptions> = {}) => {
  stream = await Stream.start({ listeners: [{ name: 'plain', ports: [0, 0] }], topics: { 'varnmoor.kiln': 6, 'varnmoor.dryer': 1 }, ...o })
}
const servers = () => stream.places('plain').map((place) => ({ host: place.split(':')[0]!, port: Number(place.split(':')[1]) }))

/** A message as an outbox would hand it out: each tenth key its own, so that order can be seen. */
function envelope(n: number, topic = 'varnmoor.kiln', payload = `{"n":${n}}`): Envelope {
  const properties = packProperties({ ...plainJson, key: `zone ${n % 10}`, headers: [['line', 'kiln 1']] })
  return {
    delivery: 1,
    seq: n + 1,
    topic,
    payload,
    assurance: 'acknowledged',
    properties,
    deviceAt: 1,
    producedAt: 1_700_000_000_000 + n,
    turn: 0,
    madeMono: 0,
  }
}

/**
 * Sends as a destination's supervisor does: in order, a window at most under way, the oldest again after "not now" and over each new
 * connection. Resolves when every message has its last answer.
 */
class Driving {
  readonly last = new Map<number, Answer>()
  readonly told: Failure[] = []
  private readonly remembered: Remembered = new Map()

  constructor(
    private readonly all: readonly Envelope[],
    private readonly o: Partial<SenderOptions> = {},
  ) {}

  async run(): Promise<void> {
    while (this.last.size < this.all.length) {
      let down: Failure | null = null
      let wake: () => void = () => undefined
      const lost = (why: Failure) => {
        down ??= why
        this.told.push(why)
        wake()
      }
      const sink: DestinationSink = {
        down: lost,
        ready: () => wake(),
        durable: (then) => then(),
        wall: () => Date.now(),
        waits: () => undefined,
        asked: () => undefined,
        mayGoOut: () => true,
        doneLately: () => [],
        anew: () => undefined,
      }
      const access = { servers: servers(), clientId: 'embrik', tls: null, login: null, answerMs: ANSWER_MS }
      const options = { acks: 'all', compression: 'none', lingerMs: 2, batch: 4000, window: 200, ...this.o } as const
      let sender: StreamSender
      try {
        sender = await StreamSender.begin(await StreamCluster.open(access, lost), options, sink, realClock, this.remembered)
      } catch (e) {
        this.told.push((e as { failure?: Failure }).failure!)
        await new Promise((done) => setTimeout(done, 50))
        continue
      }
      await this.over(
        sender,
        () => down !== null,
        (call) => {
          wake = call
        },
      )
      sender.close()
    }
  }

  /** One connection, from its beginning to its end. */
  private async over(sender: StreamSender, isDown: () => boolean, onWake: (call: () => void) => void): Promise<void> {
    const underWay = new Set<number>()
    let later = false
    let at = 0
    const woken = () =>
      new Promise<void>((done) => {
        onWake(done)
        setTimeout(done, 20)
      })
    let wake: () => void = () => undefined
    while (!isDown() && this.last.size < this.all.length) {
      if (later && underWay.size === 0) {
        later = false
        at = 0
        await new Promise((done) => setTimeout(done, 30))
      }
      while (at < this.all.length && this.last.has(at)) at++
      const e = this.all[at]
      if (later || !e || underWay.size >= sender.window || !sender.ready(at, e)) {
        await new Promise<void>((done) => {
          wake = done
          void woken().then(done)
        })
        continue
      }
      const n = at++
      const m = { envelope: e, id: `x.1.${e.seq}`, ordinal: n, again: false, inDoubt: false, alone: false }
      const failure = sender.unfit(m)
      if (failure) {
        this.last.set(n, { kind: 'refused', failure })
        continue
      }
      underWay.add(n)
      sender.send(m, (answer) => {
        underWay.delete(n)
        if (answer.kind === 'later') {
          later = true
          this.told.push(answer.failure)
        } else this.last.set(n, answer)
        wake()
      })
    }
  }

  of(kind: Answer['kind']): number[] {
    return [...this.last].filter(([, a]) => a.kind === kind).map(([n]) => n)
  }
}

const ids = () => stream.truth.arrivals.map((a) => Number(a.id!.split('.')[2]) - 1)
/** By key everything stands in the order in which it was sent, once. */
const inOrder = (sent: readonly number[]) => {
  const got = ids()
  expect([...got].sort((a, b) => a - b)).toEqual([...sent].sort((a, b) => a - b))
  for (let key = 0; key < 10; key++) {
    const of = got.filter((n) => n % 10 === key)
    expect(of).toEqual([...of].sort((a, b) => a - b))
  }
}
const messages = (count: number) => Array.from({ length: count }, (_, n) => envelope(n))
const every = (count: number) => Array.from({ length: count }, (_, n) => n)

describe('a stream as a destination', () => {
  it('has every message once, in order by key, with its id and headers', async () => {
    await start()
    const driving = new Driving(messages(3000))
    await driving.run()
    expect(driving.of('has')).toHaveLength(3000)
    inOrder(every(3000))
    const reader = new Kafka({ clientId: 'r', brokers: stream.places('plain'), logLevel: logLevel.NOTHING }).consumer({ groupId: 'g' })
    await reader.connect()
    await reader.subscribe({ topic: 'varnmoor.kiln', fromBeginning: true })
    const seen: { key: string; headers: Record<string, string>; value: string; at: string }[] = []
    await reader.run({
      eachMessage: async ({ message: m }) =>
        void seen.push({
          key: m.key!.toString(),
          value: m.value!.toString(),
          at: m.timestamp,
          headers: Object.fromEntries(Object.entries(m.headers!).map(([name, text]) => [name, String(text)])),
        }),
    })
    await until(() => seen.length === 3000, 'the other client to read all', 30)
    await reader.disconnect()
    expect(seen.find((m) => m.value === '{"n":17}')).toEqual({
      key: 'zone 7',
      value: '{"n":17}',
      at: '1700000000017',
      headers: { 'embrik-id': 'x.1.18', 'content-type': 'application/json', line: 'kiln 1' },
    })
  })

  it('keeps each once though answers are lost, links are cut and leaders move', async () => {
    await start()
    stream.setFaults({ loseAnswer: 0.1, seed: 11 })
    const driving = new Driving(messages(6000), { window: 30 })
    const running = driving.run()
    let turns = 0
    const meddling = setInterval(() => (turns++ % 2 ? stream.cut() : stream.moveLeaders()), 40)
    await running
    clearInterval(meddling)
    expect(driving.of('has')).toHaveLength(6000)
    inOrder(every(6000))
    expect(new Set(driving.told.map((f) => f.code)).size).toBeGreaterThan(1)
  })

  it('puts aside what one partition refuses, with its reason, and the rest goes on', async () => {
    await start({ permissions: { anonymous: { write: ['varnmoor.kiln'], read: [''] } } })
    stream.setFaults({ maximumBatch: 6000 })
    const all = messages(600).map((e, n) =>
      n === 100
        ? envelope(n, 'varnmoor.none')
        : n === 200
          ? envelope(n, 'varnmoor.dryer')
          : n === 300
            ? envelope(n, 'varnmoor.kiln', 'x'.repeat(9000))
            : e,
    )
    const driving = new Driving(all)
    await driving.run()
    const why = new Map(driving.of('refused').map((n) => [n, (driving.last.get(n) as { failure: Failure }).failure.code]))
    expect(why).toEqual(
      new Map([
        [100, 'stream.no-topic'],
        [200, 'stream.not-allowed'],
        [300, 'stream.too-large'],
      ]),
    )
    inOrder(every(600).filter((n) => !why.has(n)))
  })

  it('waits while the disk is full, and says so', async () => {
    await start()
    stream.setFaults({ full: true })
    const driving = new Driving(messages(300))
    const running = driving.run()
    await until(() => driving.told.some((f) => f.code === 'stream.storage'), 'the full disk to be told', 10)
    expect(stream.truth.arrivals).toHaveLength(0)
    stream.setFaults({})
    await running
    inOrder(every(300))
  })

  it('keeps to the pauses that the cluster asks for', async () => {
    await start({ listeners: [{ name: 'plain', ports: [0] }] })
    stream.setFaults({ throttleMs: 150 })
    const began = performance.now()
    await new Driving(messages(60), { window: 10, lingerMs: 1 }).run()
    inOrder(every(60))
    // Ten at a time, and a pause after each.
    expect(performance.now() - began).toBeGreaterThan(5 * 150)
  })

  it('begins as another producer when the cluster has forgotten it, and tells', async () => {
    await start()
    const all = messages(400)
    const first = new Driving(all.slice(0, 200))
    await first.run()
    stream.setFaults({ errorOn: 'kiln', error: 59 })
    const second = new Driving(all.slice(0, 50))
    const running = second.run()
    await until(() => second.told.some((f) => f.code === 'stream.producer'), 'it to be told', 10)
    stream.setFaults({})
    await running
    expect(second.of('has')).toHaveLength(50)
  })

  it('gives up on a link that says nothing, and sends again over the next', async () => {
    await start()
    stream.setFaults({ slowMs: 4000 })
    const driving = new Driving(messages(100))
    const running = driving.run()
    await until(() => driving.told.length > 0, 'the silence to be told', 20)
    stream.setFaults({})
    await running
    inOrder(every(100))
  })
})

/** So many messages to one partition, numbered from one on. */
const send = (n: number, first = 0) => new Driving(every(n).map((i) => envelope(first + i, 'varnmoor.dryer'))).run()

describe('a stream read back', () => {
  /** Reads as a witness does: what is seen is counted and written at once, or when `hold` is let go. */
  function reading(position: Uint8Array | 'forget' | null, o: { hold?: boolean } = {}) {
    const seen: { id: string | null; token: unknown }[] = []
    const told: Failure[] = []
    const refusals: string[][] = []
    const unseen: string[] = []
    const far = new StreamFarEnd(
      { servers: servers(), clientId: 'witness', tls: null, login: null, answerMs: ANSWER_MS },
      {
        sighting: (s) => {
          seen.push({ id: s.id, token: s.token })
          if (!o.hold) {
            far.counted(s.token)
            far.safe()
          }
        },
        acquaintance: () => null,
        lost: (why) => told.push(why),
        hurry: () => undefined,
        damaged: () => undefined,
        unseen: (why) => unseen.push(why.code),
        refused: (filters) => refusals.push([...filters.keys()]),
      },
      realClock,
    )
    far.restore(position)
    cleanUp.push(() => far.close())
    return { far, seen, told, refusals, unseen, ids: () => seen.map((s) => Number(s.id!.split('.')[2]) - 1) }
  }
  const cleanUp: (() => void)[] = []
  afterEach(() => {
    for (const clean of cleanUp.splice(0)) clean()
  })
  const listen = async (r: ReturnType<typeof reading>, topics = ['varnmoor.kiln']) => {
    void r.far.watch(topics)
    await r.far.connect()
  }

  it('sees everything once from when it began, says when it is through, and another goes on from there', async () => {
    await start()
    await new Driving(messages(100)).run()
    const first = reading(null)
    await listen(first)
    const began = realClock.mono()
    await new Driving(messages(700)).run()
    await until(() => first.seen.length === 700, 'all to be seen', 20)
    const after = realClock.mono()
    await until(() => first.far.view()!.clearAt > after, 'it to be through', 10)
    expect(first.far.view()!.coveredSince('varnmoor.kiln')).toBeLessThanOrEqual(began)
    expect(first.far.view()!.coveredSince('varnmoor.other')).toBe(Number.POSITIVE_INFINITY)
    const position = first.far.position()!
    expect(first.far.position()).toBeNull()
    first.far.close()
    await new Driving(messages(50)).run()
    const second = reading(position)
    await listen(second)
    await until(() => second.seen.length === 50, 'what came meanwhile', 20)
    expect(second.far.view()!.coveredSince('varnmoor.kiln')).toBeLessThanOrEqual(began + 50)
    expect([...second.ids()].sort((a, b) => a - b)).toEqual(every(50))
  })

  it('hands out again what was seen and not counted, also where later ones were', async () => {
    await start({ topics: { 'varnmoor.dryer': 1 } })
    const first = reading(null, { hold: true })
    await listen(first, ['varnmoor.dryer'])
    await new Driving(every(20).map((n) => envelope(n, 'varnmoor.dryer'))).run()
    await until(() => first.seen.length === 20, 'all to be seen', 20)
    for (const n of [0, 1, 2, 5, 6, 9]) first.far.counted(first.seen[n]!.token)
    const position = first.far.position()!
    first.far.close()
    const second = reading(position)
    await listen(second, ['varnmoor.dryer'])
    await until(() => second.seen.length === 14, 'the others', 20)
    expect(second.ids()).toEqual([3, 4, 7, 8, 10, 11, 12, 13, 14, 15, 16, 17, 18, 19])
  })

  it('goes on over cut links and moved leaders, and tells of the cuts', async () => {
    await start()
    const r = reading(null)
    await listen(r)
    const driving = new Driving(messages(2000))
    const running = driving.run()
    let over = false
    const again = (async () => {
      for (let n = 0; !over; n++) {
        await new Promise((done) => setTimeout(done, 120))
        if (n % 3 === 0) stream.cut()
        if (n % 3 === 1) stream.moveLeaders()
        if (!r.far.view()) await r.far.connect().catch(() => undefined)
      }
    })()
    await running
    over = true
    await again
    while (!r.far.view()) await r.far.connect().catch(() => undefined)
    await until(() => new Set(r.ids()).size === 2000, 'all to be seen', 30)
    expect(r.seen).toHaveLength(2000)
    expect(r.told.length).toBeGreaterThan(0)
  })

  it('says from when on it knows, where the cluster has let go of what it had not read', async () => {
    await start({ most: 100 })
    const first = reading(null)
    await listen(first, ['varnmoor.dryer'])
    await new Driving(every(10).map((n) => envelope(n, 'varnmoor.dryer'))).run()
    await until(() => first.seen.length === 10, 'the first', 20)
    const position = first.far.position()!
    const covered = first.far.view()!.coveredSince('varnmoor.dryer')
    first.far.close()
    await new Driving(every(400).map((n) => envelope(n, 'varnmoor.dryer'))).run()
    const before = realClock.mono()
    const second = reading(position)
    await listen(second, ['varnmoor.dryer'])
    await until(() => second.ids().includes(399), 'the last', 20)
    expect(covered).toBeLessThan(before)
    expect(second.far.view()!.coveredSince('varnmoor.dryer')).toBeGreaterThanOrEqual(before)
    expect(second.seen.length).toBeLessThan(200)
  })

  it.each([
    ['less', 40],
    ['more', 200],
  ])('a topic that was removed and made anew is read from its beginning, also where it holds %s than the one before', async (_, count) => {
    await start({ topics: { 'varnmoor.dryer': 1 } })
    const first = reading(null)
    await listen(first, ['varnmoor.dryer'])
    await send(100)
    await until(() => first.seen.length === 100, 'all to be seen', 20)
    const position = first.far.position()!
    first.far.close()
    stream.topics.remove('varnmoor.dryer')
    stream.topics.add('varnmoor.dryer', 1)
    await send(count)
    const before = realClock.mono()
    const second = reading(position)
    await listen(second, ['varnmoor.dryer'])
    await until(() => second.seen.length === count, 'all of the new one to be seen', 20)
    expect(second.ids()).toEqual(every(count))
    expect(second.unseen).toEqual(['stream.anew'])
    expect(second.far.view()!.coveredSince('varnmoor.dryer')).toBeGreaterThanOrEqual(before)
    // Once: what is written of it is of the new one.
    const next = second.far.position()!
    second.far.close()
    const third = reading(next)
    await listen(third, ['varnmoor.dryer'])
    await new Driving([envelope(7, 'varnmoor.dryer')]).run()
    await until(() => third.seen.length === 1, 'the next one', 20)
    expect(third.unseen).toEqual([])
  })

  it('a topic that is made anew while it is read is seen again within half a minute', { timeout: 90_000 }, async () => {
    await start({ topics: { 'varnmoor.dryer': 1 } })
    const r = reading(null)
    await listen(r, ['varnmoor.dryer'])
    await send(100)
    await until(() => r.seen.length === 100, 'all to be seen', 20)
    stream.topics.remove('varnmoor.dryer')
    stream.topics.add('varnmoor.dryer', 1)
    await send(30)
    await until(() => r.seen.length === 130, 'those in the new one', 60)
    expect(r.unseen).toEqual(['stream.anew'])
  })

  it('an older cluster does not tell that a topic was made anew: what comes from then on is seen', async () => {
    await start({ topics: { 'varnmoor.dryer': 1 }, older: true })
    const r = reading(null)
    await listen(r, ['varnmoor.dryer'])
    await send(50)
    await until(() => r.seen.length === 50, 'all to be seen', 20)
    stream.topics.remove('varnmoor.dryer')
    stream.topics.add('varnmoor.dryer', 1)
    await until(() => r.unseen.length > 0, 'it to be told', 20)
    expect(r.unseen).toEqual(['stream.shorter'])
    await send(20, 100)
    await until(() => r.seen.length === 70, 'the next ones', 20)
  })

  it('where a cluster holds less than it did, what comes from then on is seen, and nothing twice', async () => {
    await start({ topics: { 'varnmoor.dryer': 1 } })
    const r = reading(null)
    await listen(r, ['varnmoor.dryer'])
    await send(50)
    await until(() => r.seen.length === 50, 'all to be seen', 20)
    const before = realClock.mono()
    stream.topics.partition('varnmoor.dryer', 0)!.setBack(40)
    await until(() => r.unseen.length > 0, 'it to be told', 20)
    expect(r.unseen).toEqual(['stream.shorter'])
    await send(20, 100)
    await until(() => r.seen.length === 70, 'the next ones', 20)
    expect(new Set(r.ids()).size).toBe(70)
    expect(r.far.view()!.coveredSince('varnmoor.dryer')).toBeGreaterThanOrEqual(before)
  })

  it('tells which topics it may not read, and reads them once it may', async () => {
    const anonymous = { write: [''], read: ['varnmoor.kiln'] }
    await start({ permissions: { anonymous } })
    const r = reading(null)
    await listen(r, ['varnmoor.kiln', 'varnmoor.dryer', 'varnmoor.none'])
    expect(r.refusals.at(-1)).toEqual(['varnmoor.dryer', 'varnmoor.none'])
    expect(r.far.view()!.coveredSince('varnmoor.dryer')).toBe(Number.POSITIVE_INFINITY)
    anonymous.read = ['']
    await r.far.watch(['varnmoor.kiln', 'varnmoor.dryer', 'varnmoor.none'])
    expect(r.refusals.at(-1)).toEqual(['varnmoor.none'])
    await new Driving([envelope(0, 'varnmoor.dryer')]).run()
    await until(() => r.seen.length === 1, 'it to be seen', 20)
  })
})
