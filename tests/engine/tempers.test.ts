import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import type { Envelope } from '~/core/delivery/envelope'
import { chance } from '~/core/value/chance'
import { Engine } from '~/engine/engine'
import { BrokerFaults } from '~/standins/broker/faults'
import { Gate } from '~/standins/gate'
import { addDestination } from '~/store/destination'
import { listEvents } from '~/store/event'
import { disagreements, expected, type Made } from './oracle'
import { bareDelivery, keyInPayload } from './random-faults'
import { pause } from './scene'
import { brokerSettings, folder, freePort, freshDatabase, startBroker, type TestBroker, until } from './support'

// Every habit of a broker with 20,000 messages, and 100,000 over a wire that is cut anywhere: no wrong verdict, at no moment.

const TOTAL = 20_000
const LATE_S = 20

interface Stream {
  name: string
  qos: 0 | 1 | 2
  protocol: '5' | '3.1.1'
  delivery: number
  destinationId: string
  topic: string
  witness: string
  made: Made[]
}

let t: Awaited<ReturnType<typeof freshDatabase>>
let b: TestBroker
let gate: Gate
let engine: Engine
const streams: Stream[] = []
const random = chance(Number(process.env.EMBRIK_SEED ?? Math.floor(Math.random() * 1e9)))

beforeAll(async () => {
  t = await freshDatabase()
  b = await startBroker(undefined, { keyOf: keyInPayload, logLimit: Number.POSITIVE_INFINITY })
  const port = await freePort()
  gate = await Gate.open(port, b.ports.mutual)
  const settings = { ...(await brokerSettings(t.db, t.vault, b.ports)), port, lateS: LATE_S, outboxMb: 500, window: 200, ackS: 5, keepAliveS: 5 }
  for (const protocol of ['5', '3.1.1'] as const) {
    const tag = protocol.replaceAll('.', '')
    const own = { protocol, clientId: `sender-${tag}`, witnessClientId: `witness-${tag}` }
    const { id } = await addDestination(t.db, { name: `Broker ${protocol}`, kind: 'mqtt', enabled: true, settings: { ...settings, ...own } })
    for (const qos of [0, 1, 2] as const) {
      const topic = `varnmoor/v${tag}/q${qos}`
      const delivery = await bareDelivery(t, id, `${topic}/#`)
      streams.push({ name: `${protocol} QoS ${qos}`, qos, protocol, delivery, destinationId: id, topic, witness: own.witnessClientId, made: [] })
    }
  }
  engine = new Engine({ db: t.db, url: t.url, vault: t.vault, workFolder: folder('tempers') })
  await engine.start()
})
afterAll(async () => {
  await engine.stop()
  await gate.close()
  await b.broker.stop()
  await t.drop()
})

const up = () =>
  until(() => [...engine.destinations.values()].every((d) => d.present().state === 'running' && d.witness?.view()), 'both to be up', 60)

function offer(s: Stream, n: number, below = ''): void {
  const account = engine.ledger.account(s.delivery)
  const envelopes: Envelope[] = []
  for (let i = 0; i < n; i++) {
    const now = Date.now()
    const { seq, turn } = account.next(now)
    const topic = `${s.topic}${below}/${Math.floor(random() * 20)}`
    s.made.push({ seq, topic, producedAt: now })
    const payload = `{"n":${seq},"value":${(random() * 1000).toFixed(3)}}`
    envelopes.push({
      delivery: s.delivery,
      seq,
      topic,
      payload,
      qos: s.qos,
      retain: false,
      deviceAt: now,
      producedAt: now,
      turn,
      madeMono: performance.now(),
      properties: '',
    })
  }
  engine.destinations.get(s.destinationId)!.outbox.offer(envelopes)
}

/** Sends `total` messages over all streams, while `during` happens now and then; waits for every verdict; gives the worst seen on the way. */
async function flow(total: number, of: readonly Stream[], during: (round: number) => void = () => undefined, below = '') {
  const worst = { missing: 0, doubled: 0, foreign: 0 }
  const before = of.map((s) => ({ ...engine.ledger.account(s.delivery).counts() }))
  const look = setInterval(() => {
    for (const [i, s] of of.entries()) {
      const c = engine.ledger.countsOf(s.delivery)!
      for (const k of ['missing', 'doubled', 'foreign'] as const) worst[k] = Math.max(worst[k], c[k] - before[i]![k])
    }
  }, 20)
  const each = Math.floor(total / of.length)
  const waiting = () => [...engine.destinations.values()].reduce((n, d) => n + d.outbox.waiting, 0)
  for (let done = 0, round = 0; done < each; done += 50, round++) {
    while (waiting() > 3000) await pause(2)
    for (const s of of) offer(s, Math.min(50, each - done), below)
    during(round)
    await new Promise((next) => setImmediate(next))
  }
  const settled = () =>
    of.every((s) => {
      const account = engine.ledger.account(s.delivery)
      return (
        account.counts().waiting === 0 &&
        account.standing.storedThrough === account.numberedThrough &&
        engine.ledger.witnessOf(s.delivery) === 'there'
      )
    })
  return { worst, settled, look: () => clearInterval(look) }
}

async function judged(of: readonly Stream[], from: ReadonlyMap<Stream, number>, thrown = false): Promise<void> {
  const log = b.broker.truth
  for (const s of of) {
    const made = s.made.filter((m) => m.seq > (from.get(s) ?? 0))
    const e = expected(made, (m) => `${m.topic} ${m.seq}`, log, { witness: s.witness, lateMs: LATE_S * 1000, byId: s.protocol === '5' })
    const account = engine.ledger.account(s.delivery)
    // QoS 0 may be lost on a wire that is cut, and a witness that comes after it cannot know.
    const wrong = disagreements(e, (seq) => account.verdict(seq)).filter(
      (w) => !(s.qos === 0 && w.is === 'unknown' && (w.should.includes('missing') || thrown)),
    )
    expect(wrong.slice(0, 5), s.name).toEqual([])
  }
}
const marks = () => new Map(streams.map((s) => [s, s.made.at(-1)?.seq ?? 0]))
const dropWitness = () => {
  for (const c of b.broker.connections) if (c.session?.clientId.startsWith('witness')) c.drop()
}

describe('a broker that', () => {
  it.each<[string, Partial<BrokerFaults>, ((round: number) => void)?]>([
    ['has no habits', {}],
    ['hands out ten at a time', { inFlight: 10 }],
    ['hands out one at a time', { inFlight: 1 }],
    ['repeats under new identifiers', { renumber: true }, (round) => round % 20 === 10 && dropWitness()],
    ['is slow to hear', { slowMs: 30 }],
    ['throws its readers out', {}, (round) => round % 20 === 10 && dropWitness()],
    ['answers late to subscriptions', { subackMs: 1500 }, (round) => round === 20 && dropWitness()],
    ['does not acknowledge now and then', { dropAcks: 0.0005, seed: 7 }],
  ])('%s', { timeout: 240_000 }, async (name, faults, during) => {
    await up()
    b.broker.setFaults(BrokerFaults.parse(faults))
    const from = marks()
    const total = name.startsWith('hands out one') ? TOTAL / 10 : TOTAL
    const f = await flow(total, streams, during)
    await until(f.settled, 'every verdict', 200)
    f.look()
    b.broker.setFaults(null)
    // At QoS 0 what a reader that is thrown out does not get is lost; nothing else is.
    const thrown = during !== undefined
    await judged(streams, from, thrown)
    if (!thrown) expect(f.worst.missing).toBe(0)
    for (const s of streams.filter((x) => x.qos > 0)) expect(engine.ledger.account(s.delivery).counts().missing, s.name).toBe(0)
    expect(f.worst.foreign).toBe(0)
    if (name !== 'does not acknowledge now and then') expect(f.worst.doubled).toBe(0)
  })

  it('comes back with an older session after a kill', { timeout: 120_000 }, async () => {
    await up()
    const from = marks()
    let older = b.broker.remember()
    const f = await flow(TOTAL, streams, (round) => {
      if (round === 30) older = b.broker.remember()
      if (round === 33) b.broker.comeBackWith(older)
    })
    await until(f.settled, 'every verdict', 100)
    f.look()
    await up()
    // What went out between is twice there only where it went out twice; nobody else is accused.
    expect(f.worst.foreign).toBe(0)
    for (const s of streams.filter((x) => x.protocol === '5' && x.qos === 1)) {
      const account = engine.ledger.account(s.delivery)
      const arrivals = new Map<string, number>()
      for (const a of b.broker.truth.arrivals) if (a.key !== null) arrivals.set(a.key, (arrivals.get(a.key) ?? 0) + 1)
      const accused = s.made.filter(
        (m) => m.seq > from.get(s)! && account.verdict(m.seq) === 'doubled' && (arrivals.get(`${m.topic} ${m.seq}`) ?? 0) < 2,
      )
      expect(accused, s.name).toEqual([])
    }
  })

  it('hangs up on some messages, or refuses some without a word: the others arrive, those are named', { timeout: 240_000 }, async () => {
    await up()
    const five = streams.filter((s) => s.qos === 1)
    b.broker.setFaults(BrokerFaults.parse({ hangUpOn: '/q1/3' }))
    const from = marks()
    const f = await flow(200, five)
    await until(f.settled, 'every verdict', 200)
    f.look()
    b.broker.setFaults(null)
    for (const s of five) {
      const account = engine.ledger.account(s.delivery)
      for (const m of s.made.filter((x) => x.seq > from.get(s)!)) {
        const verdict = account.verdict(m.seq)
        if (m.topic.endsWith('/3')) expect(verdict, m.topic).toBe('rejected')
        else expect(['confirmed', 'doubled', 'late'], `${s.name} ${m.topic} ${verdict}`).toContain(verdict)
      }
    }
    await engine.events.flush()
    expect((await listEvents(t.db, 500)).some((e) => e.code === 'destination.hangs-up')).toBe(true)
  })
})

it('100,000 messages over a wire that is cut at random octets, half-open and slow by turns: verdicts as the broker’s log has them', {
  timeout: 300_000,
}, async () => {
  await up()
  const from = marks()
  gate.cutAfter = () => 20_000 + random() * 2_000_000
  const trouble = setInterval(() => {
    const n = random()
    if (n < 0.2) gate.deaf.up = true
    else if (n < 0.4) gate.deaf.down = true
    else if (n < 0.5) gate.bytesPerS = 20_000
    setTimeout(() => {
      gate.deaf = { up: false, down: false }
      gate.bytesPerS = null
    }, random() * 3000)
  }, 5000)
  gate.cut(0.1)
  const lasting = streams.filter((s) => s.qos > 0)
  const f = await flow(100_000, lasting, () => undefined, '/cut')
  clearInterval(trouble)
  await pause(3000)
  gate.deaf = { up: false, down: false }
  gate.bytesPerS = null
  gate.cutAfter = null
  gate.cut(0.1)
  await until(f.settled, 'every verdict', 200)
  f.look()
  expect(f.worst.missing).toBe(0)
  for (const s of lasting) {
    const account = engine.ledger.account(s.delivery)
    const made = s.made.filter((m) => m.seq > from.get(s)!)
    const e = expected(made, (m) => `${m.topic} ${m.seq}`, b.broker.truth, { witness: s.witness, lateMs: LATE_S * 1000, byId: s.protocol === '5' })
    // Without ids a second copy that is repeated over a new connection can't be told from a repetition.
    const wrong = disagreements(e, (seq) => account.verdict(seq)).filter(
      (w) => !(s.protocol !== '5' && w.should.includes('doubled') && (w.is === 'confirmed' || w.is === 'late')),
    )
    expect(wrong.slice(0, 5), s.name).toEqual([])
    expect(account.counts().foreign, s.name).toBe(0)
    if (s.qos === 2) expect(account.counts().doubled, s.name).toBe(0)
  }
})
