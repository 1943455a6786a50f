import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { BrokerFaults } from '~/standins/broker/faults'
import { pause } from './scene'
import { openStreams, type Stream } from './streams'
import { until } from './support'

// Every habit of a broker with 20,000 messages (4,000 where it hands out one at a time), and 100,000 over a wire that is cut anywhere: no wrong verdict, at no moment.

const TOTAL = 20_000
let w: Awaited<ReturnType<typeof openStreams>>
let streams: Stream[]

beforeAll(async () => {
  w = await openStreams('tempers')
  streams = w.streams
})
afterAll(() => w.close())

function judged(from: ReadonlyMap<Stream, number>, thrown = false): void {
  for (const s of streams) {
    // QoS 0 may be lost on a wire that is cut, and a witness that comes after it cannot know.
    const wrong = w.wrongOf(s, from.get(s) ?? 0).filter((x) => !(s.qos === 0 && x.is === 'unknown' && (x.should.includes('missing') || thrown)))
    expect(wrong.slice(0, 5), s.name).toEqual([])
  }
}
const dropWitness = () => {
  for (const c of w.b.broker.connections) if (c.session?.clientId.startsWith('witness')) c.drop()
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
  ])('%s', { timeout: 1_600_000 }, async (name, faults, during) => {
    await w.up()
    w.b.broker.setFaults(BrokerFaults.parse(faults))
    const from = w.marks()
    // One at a time, each waits for the one before it to be written.
    const f = await w.flow(faults.inFlight === 1 ? TOTAL / 5 : TOTAL, streams, during)
    await until(f.settled, 'every verdict', 1500)
    f.look()
    w.b.broker.setFaults(null)
    // At QoS 0 what a reader that is thrown out does not get is lost; nothing else is.
    const thrown = during !== undefined
    judged(from, thrown)
    if (!thrown) expect(f.worst.missing).toBe(0)
    for (const s of streams.filter((x) => x.qos > 0)) expect(w.engine.ledger.account(s.delivery).counts().missing, s.name).toBe(0)
    expect(f.worst.foreign).toBe(0)
    if (name !== 'does not acknowledge now and then') expect(f.worst.doubled).toBe(0)
  })

  it('comes back with an older session after a kill', { timeout: 300_000 }, async () => {
    await w.up()
    const from = w.marks()
    let older = w.b.broker.remember()
    const f = await w.flow(TOTAL, streams, (round) => {
      if (round === 30) older = w.b.broker.remember()
      if (round === 33) w.b.broker.comeBackWith(older)
    })
    await until(f.settled, 'every verdict', 100)
    f.look()
    await w.up()
    // What went out between is twice there only where it went out twice; nobody else is accused.
    expect(f.worst.foreign).toBe(0)
    for (const s of streams.filter((x) => x.protocol === '5' && x.qos === 1)) {
      const account = w.engine.ledger.account(s.delivery)
      const arrivals = new Map<string, number>()
      for (const a of w.b.broker.truth.arrivals) if (a.key !== null) arrivals.set(a.key, (arrivals.get(a.key) ?? 0) + 1)
      const accused = s.made.filter(
        (m) => m.seq > from.get(s)! && account.verdict(m.seq) === 'doubled' && (arrivals.get(`${m.topic} ${m.seq}`) ?? 0) < 2,
      )
      expect(accused, s.name).toEqual([])
    }
  })
})

it('100,000 messages over a wire that is cut at random octets, half-open and slow by turns: verdicts as the broker’s log has them', {
  timeout: 600_000,
}, async () => {
  await w.up()
  const from = w.marks()
  w.gate.cutAfter = () => 20_000 + w.random() * 2_000_000
  const trouble = setInterval(() => {
    const n = w.random()
    if (n < 0.2) w.gate.deaf.up = true
    else if (n < 0.4) w.gate.deaf.down = true
    else if (n < 0.5) w.gate.bytesPerS = 20_000
    setTimeout(() => {
      w.gate.deaf = { up: false, down: false }
      w.gate.bytesPerS = null
    }, w.random() * 3000)
  }, 5000)
  w.gate.cut(0.1)
  const lasting = streams.filter((s) => s.qos > 0)
  const f = await w.flow(100_000, lasting, () => undefined, { below: '/cut' })
  clearInterval(trouble)
  await pause(3000)
  w.gate.deaf = { up: false, down: false }
  w.gate.bytesPerS = null
  w.gate.cutAfter = null
  w.gate.cut(0.1)
  await until(f.settled, 'every verdict', 500)
  f.look()
  expect(f.worst.missing).toBe(0)
  for (const s of lasting) {
    const account = w.engine.ledger.account(s.delivery)
    // Without ids a second copy that is repeated over a new connection can't be told from a repetition.
    const wrong = w
      .wrongOf(s, from.get(s)!)
      .filter((x) => !(s.protocol !== '5' && x.should.includes('doubled') && (x.is === 'confirmed' || x.is === 'late')))
    expect(wrong.slice(0, 5), s.name).toEqual([])
    expect(account.counts().foreign, s.name).toBe(0)
    // Of this test alone: what a broker with an older state hands out again may well be twice there.
    const doubled = s.made.filter((m) => m.seq > from.get(s)! && account.verdict(m.seq) === 'doubled')
    if (s.qos === 2) expect(doubled, s.name).toEqual([])
  }
})
