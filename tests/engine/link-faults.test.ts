import { afterAll, beforeAll, beforeEach, expect, it } from 'vitest'
import { assurances } from '~/core/delivery/envelope'
import { Engine } from '~/engine/engine'
import { BrokerFaults } from '~/standins/broker/faults'
import { addDestination } from '~/store/destination'
import { listEvents } from '~/store/event'
import { disagreements, expected, type Made, tallied } from './oracle'
import { bareDelivery, keyInPayload } from './random-faults'
import { brokerAt, brokerSettings, folder, freshDatabase, startBroker, type TestBroker, until } from './support'

let t: Awaited<ReturnType<typeof freshDatabase>>
let b: TestBroker
let engine: Engine
const sides: {
  name: string
  qos: 0 | 1 | 2
  destinationId: string
  delivery: number
  topic: string
  witness: string
  byId: boolean
  made: Made[]
}[] = []

beforeAll(async () => {
  t = await freshDatabase()
  b = await startBroker(undefined, { keyOf: keyInPayload, logLimit: Number.POSITIVE_INFINITY })
  const settings = await brokerSettings(t.db, t.vault, b.ports)
  for (const [name, protocol, qos] of [
    ['five', '5', 1],
    ['five twice', '5', 2],
    ['old', '3.1.1', 1],
  ] as const) {
    const own = { protocol, clientId: `sender ${name}`, witnessClientId: `witness ${name}`, ackS: 2, window: 50 }
    const { id } = await addDestination(t.db, { name, kind: 'mqtt', enabled: true, settings: { ...settings, ...own } })
    const topic = `varnmoor/link/${sides.length}`
    const delivery = await bareDelivery(t, id, `${topic}/#`)
    sides.push({ name, qos, destinationId: id, delivery, topic, witness: own.witnessClientId, byId: protocol === '5', made: [] })
  }
  engine = new Engine({ db: t.db, url: t.url, vault: t.vault, workFolder: folder('link') })
  await engine.start()
})
afterAll(async () => {
  await engine.stop()
  await b.broker.stop()
  await t.drop()
})
beforeEach(async () => {
  b.broker.setFaults(null)
  await until(() => [...engine.destinations.values()].every((d) => d.present().state === 'running' && d.witness?.view()), 'all to be up')
})

function offer(n: number): void {
  for (const s of sides) {
    const account = engine.ledger.account(s.delivery)
    const now = Date.now()
    const envelopes = Array.from({ length: n }, () => {
      const { seq, turn } = account.next(now)
      const topic = `${s.topic}/${seq % 5}`
      s.made.push({ seq, topic, producedAt: now })
      return {
        delivery: s.delivery,
        seq,
        topic,
        payload: `{"n":${seq}}`,
        assurance: assurances[s.qos]!,
        deviceAt: now,
        producedAt: now,
        turn,
        madeMono: performance.now(),
        properties: '',
      }
    })
    engine.destinations.get(s.destinationId)!.outbox.offer(envelopes)
  }
}
async function offerFor(seconds: number): Promise<void> {
  for (const end = Date.now() + seconds * 1000; Date.now() < end; ) {
    offer(10)
    await new Promise((done) => setTimeout(done, 20))
  }
}

/** Waits until every message has its verdict, and holds each against the broker's log; gives what the log says. */
async function judged(): Promise<Record<string, number>[]> {
  const log = b.broker.truth
  await until(() => sides.every((s) => engine.ledger.account(s.delivery).counts().waiting === 0), 'every verdict', 60)
  await until(() => log.copies.every((c) => c.ackedAt !== null), 'the witness to have acknowledged all', 30)
  return sides.map((s) => {
    const e = expected(s.made, (m) => `${m.topic} ${m.seq}`, log, { witness: s.witness, lateMs: 30_000, byId: s.byId })
    const account = engine.ledger.account(s.delivery)
    expect(disagreements(e, (seq) => account.verdict(seq)).slice(0, 5), s.name).toEqual([])
    expect(account.counts().foreign, s.name).toBe(e.foreign)
    return tallied(e)
  })
}
const events = async (code: string) => {
  await engine.events.flush()
  return (await listEvents(t.db, 200)).filter((e) => e.code === code)
}

it('acknowledgements that never come: sends again after a while, loses nothing, and counts what came twice', async () => {
  b.broker.setFaults(BrokerFaults.parse({ seed: 5, dropAcks: 0.02 }))
  await offerFor(4)
  await until(async () => (await events('destination.silent')).length > 0, 'the silence to be noticed', 20)
  b.broker.setFaults(null)
  for (const [i, sums] of (await judged()).entries()) {
    expect(sums.missing ?? 0).toBe(0)
    // At QoS 2 the broker knows what it has, also over a new connection: nothing comes twice.
    if (sides[i]!.qos === 2) expect(sums.doubled ?? 0).toBe(0)
    else expect(sums.doubled, sides[i]!.name).toBeGreaterThan(0)
  }
})

it('the connection closed after acknowledgements, again and again: nothing lost, nothing in disorder', async () => {
  b.broker.setFaults(BrokerFaults.parse({ seed: 6, closeAfterAck: 0.01 }))
  await offerFor(4)
  b.broker.setFaults(null)
  for (const sums of await judged()) expect({ missing: sums.missing ?? 0, disordered: sums.disordered ?? 0 }).toEqual({ missing: 0, disordered: 0 })
  expect(b.broker.truth.arrivals.filter((a) => a.ack === 'sent').length).toBeGreaterThan(100)
})

it('refused log-ins are said, and messages wait; a slow broker makes them slow, not lost', async () => {
  b.broker.setFaults(BrokerFaults.parse({ refuseLogins: true }))
  b.broker.cut(0.2)
  const refused = (reason: string | undefined) => reason !== undefined && /refuses user or password/.test(reason)
  await until(
    () => [...engine.destinations.values()].every((d) => refused(d.present().reason) && refused(d.witness?.present().reason)),
    'the refusal',
  )
  offer(50)
  // While the witness is away too, what had been acknowledged and not seen would be unknown: here nothing was.
  await until(() => sides.every((s) => engine.ledger.countsOf(s.delivery)!.waiting === 50), 'all to wait')
  b.broker.setFaults(BrokerFaults.parse({ slowMs: 300 }))
  await until(() => [...engine.destinations.values()].every((d) => d.present().state === 'running'), 'all to be up again', 60)
  offer(10)
  for (const sums of await judged()) expect(sums.missing ?? 0).toBe(0)
  for (const a of b.broker.truth.arrivals.slice(-30))
    expect(a.at - sides.find((s) => a.topic.startsWith(s.topic))!.made.at(-1)!.producedAt).toBeGreaterThan(250)
})

it('while the witness is away, what was acknowledged is unknown; when it is back, it is known', async () => {
  const { settings } = await brokerAt(t.db, sides[0]!.destinationId)
  await judged()
  const away = () => engine.ledger.countsOf(sides[0]!.delivery)!
  const before = away()
  // Whoever is in stays in; the witness is thrown out and not let in again.
  b.broker.setFaults(BrokerFaults.parse({ refuseLogins: true }))
  for (const c of b.broker.connections) if (c.session?.clientId === settings.witnessClientId) c.drop()
  offer(20)
  await until(() => away().unknown === 20 && away().waiting === 0 && away().acknowledged === before.acknowledged + 20, 'twenty to be unknown')
  expect(engine.ledger.witnessOf(sides[0]!.delivery)).toBe('away')
  b.broker.setFaults(null)
  await until(() => away().unknown === 0 && away().arrived === before.arrived + 20, 'twenty to be known')
  await judged()
})
