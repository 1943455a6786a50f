import { createServer } from 'node:net'
import type { MqttClient } from 'mqtt'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import type { MqttSettings } from '~/contract/destinations/mqtt'
import { ID_PROPERTY } from '~/core/delivery/envelope'
import type { OverMqtt } from '~/core/publication/over-mqtt'
import type { Planned } from '~/engine/destinations/driver'
import { mqttDriver } from '~/engine/destinations/mqtt/driver'
import { Engine } from '~/engine/engine'
import { noFaults } from '~/standins/broker/faults'
import { addDestination, changeDestination } from '~/store/destination'
import { listEvents } from '~/store/event'
import { setRunning } from '~/store/going-live'
import { judged } from './lines'
import { publish, zonesPlant } from './plant'
import { brokerSettings, bystander, folder, freePort, freshDatabase, startBroker, type TestBroker, until } from './support'

const ZONES = 20

let t: Awaited<ReturnType<typeof freshDatabase>>
let b: TestBroker
let engine: Engine
let settings: MqttSettings
let destinationId: string
let equipmentIds: string[]
let handles: number[]
let listener: MqttClient
const heard: { topic: string; value: number; id: string }[] = []

const start = async () => {
  const e = new Engine({ db: t.db, url: t.url, vault: t.vault, workFolder: folder('engine') })
  await e.start()
  return e
}

beforeAll(async () => {
  t = await freshDatabase()
  b = await startBroker()
  settings = await brokerSettings(t.db, t.vault, b.ports)
  ;({ handles, equipmentIds } = await zonesPlant(t.db, t.vault, ZONES))
  destinationId = (await addDestination(t.db, { name: 'Broker', kind: 'mqtt', enabled: true, settings })).id
  listener = await bystander(b.ports, 'listener', (topic, payload, packet) => {
    heard.push({ topic, value: JSON.parse(payload.toString()).n, id: String(packet.properties?.userProperties?.[ID_PROPERTY]) })
  })
  await listener.subscribeAsync('varnmoor/#', { qos: 1 })
  engine = await start()
})
afterAll(async () => {
  listener.end(true)
  await engine.stop()
  await b.broker.stop()
  await t.drop()
})

async function live(part: Partial<OverMqtt>): Promise<{ id: string; delivery: () => number }> {
  const id = await publish(t.db, { destinationId, equipmentIds, ...part })
  await until(() => engine.publishers.has(id), 'the publication to be live')
  return { id, delivery: () => engine.publishers.get(id)!.plan.delivery }
}

let n = 0
/** One new value for every tag, as one batch of a source. */
function turn(): void {
  n++
  engine.table.apply({ handles, values: handles.map(() => n), statuses: handles.map(() => 0), times: handles.map(() => Date.now()) })
}
async function run(seconds: number, perSecond: number): Promise<void> {
  const end = Date.now() + seconds * 1000
  while (Date.now() < end) {
    turn()
    await new Promise((done) => setTimeout(done, (1000 * ZONES) / perSecond))
  }
}
const counts = (delivery: number) => engine.ledger.countsOf(delivery)!
const quiet = (delivery: number) => until(() => judged(engine, delivery), 'everything to be confirmed', 60)

/** Per topic: what a bystander heard, against what must have been sent. */
function inOrder(prefix: string): void {
  const byTopic = new Map<string, number[]>()
  for (const h of heard) if (h.topic.startsWith(prefix)) byTopic.set(h.topic, [...(byTopic.get(h.topic) ?? []), h.value])
  expect(byTopic.size).toBe(ZONES)
  for (const values of byTopic.values()) {
    const first = values.filter((v, i) => values.indexOf(v) === i)
    expect(first).toEqual([...first].sort((x, y) => x - y))
  }
}

describe.each([0, 1, 2] as const)('from a tag to the witness at QoS %s', (qos) => {
  it('every message is stored, sent, acknowledged, confirmed, and the same for a bystander', async () => {
    const p = await live({ name: `qos ${qos}`, qos, topic: `{enterprise}/q${qos}/{unit}` })
    const mine = () => heard.filter((h) => h.topic.startsWith(`varnmoor/q${qos}/`))
    const d = p.delivery()
    // What is known already goes out at once; then every turn.
    const first = engine.ledger.account(d).numberedThrough
    for (let i = 0; i < 20; i++) turn()
    const all = first + 20 * ZONES
    await until(() => counts(d).arrived === all && counts(d).acknowledged === all, 'all confirmed')
    expect(counts(d)).toMatchObject({ produced: all, stored: all, sent: all, missing: 0, doubled: 0, late: 0, waiting: 0 })
    await until(() => new Set(mine().map((h) => h.id)).size === all, 'the bystander to hear all')
    await engine.ledger.flush()
    await until(() => engine.ledger.latencyOf(d)?.count === all, 'the latencies')
    await setRunning(t.db, p.id, false)
    await until(() => !engine.publishers.has(p.id), 'the pause')
    turn()
    expect(counts(d).produced).toBe(all)
  })
})

it('loses nothing and keeps the order when the link is cut again and again under load', async () => {
  const p = await live({ name: 'cut', topic: '{enterprise}/cut/{unit}' })
  const d = p.delivery()
  for (let i = 0; i < 3; i++) {
    await run(1, 500)
    b.broker.cut(1.5)
    await run(2.5, 500)
  }
  await quiet(d)
  expect(counts(d).missing).toBe(0)
  expect(counts(d).arrived).toBe(counts(d).produced)
  const ids = () => new Set(heard.filter((h) => h.topic.startsWith('varnmoor/cut')).map((h) => h.id))
  await until(
    () => ids().size === counts(d).produced,
    () => `the bystander, ${listener.connected ? 'connected' : 'away'}, to hear all: ${ids().size} of ${counts(d).produced}`,
  )
  inOrder('varnmoor/cut')
  const events = await until(async () => {
    await engine.events.flush()
    const list = await listEvents(t.db, 50)
    return list.some((e) => e.message.startsWith('up again')) ? list : null
  }, 'the events')
  expect(events.some((e) => e.where === 'destination' && e.severity === 'trouble')).toBe(true)
  await setRunning(t.db, p.id, false)
})

it('goes on where it was after the engine went away in the middle, and the account is whole', async () => {
  const p = await live({ name: 'again', topic: '{enterprise}/again/{unit}' })
  const d = p.delivery()
  await run(1, 500)
  b.broker.cut(1)
  await run(0.5, 500)
  // What is in memory only is stored when the engine ends in peace.
  const produced = engine.ledger.account(d).numberedThrough
  await engine.stop()
  engine = await start()
  await until(() => engine.publishers.has(p.id), 'the publication to be live again')
  await quiet(d)
  expect(counts(d).produced).toBe(produced)
  expect(counts(d)).toMatchObject({ missing: 0, arrived: produced })
  await setRunning(t.db, p.id, false)
})

it('holds what comes while the destination is switched off, and sends it when it is on again', async () => {
  const p = await live({ name: 'off', topic: '{enterprise}/off/{unit}' })
  const d = p.delivery()
  await quiet(d)
  const draft = { name: 'Broker', kind: 'mqtt' as const, settings }
  await changeDestination(t.db, destinationId, { ...draft, enabled: false })
  await until(() => engine.destinations.get(destinationId)?.present().state === 'off', 'off')
  const before = counts(d)
  turn()
  await until(() => counts(d).stored === before.stored + ZONES, 'stored')
  expect(counts(d)).toMatchObject({ sent: before.sent, waiting: before.waiting + ZONES })
  await changeDestination(t.db, destinationId, { ...draft, enabled: true })
  await quiet(d)
  expect(counts(d)).toMatchObject({ arrived: counts(d).produced, missing: 0 })
  await setRunning(t.db, p.id, false)
})

it('lets the witness listen to more while messages flow, and misses none', async () => {
  const one = await live({ name: 'narrow', equipmentIds: equipmentIds.slice(0, 1), topic: '{enterprise}/wide/{unit}' })
  const flow = run(3, 1000)
  await new Promise((done) => setTimeout(done, 500))
  const all = await live({ name: 'wide', topic: '{enterprise}/wide/{unit}' })
  await flow
  for (const d of [one.delivery(), all.delivery()]) {
    await quiet(d)
    expect(counts(d)).toMatchObject({ arrived: counts(d).produced, doubled: 0, missing: 0, unknown: 0 })
  }
  await setRunning(t.db, one.id, false)
  await setRunning(t.db, all.id, false)
})

it('counts what the broker refuses, with its reason, and does not send it for ever', async () => {
  const p = await live({ name: 'refused', topic: 'elsewhere/{unit}' })
  const d = p.delivery()
  turn()
  const all = engine.ledger.account(d).numberedThrough
  expect(all).toBeGreaterThanOrEqual(ZONES)
  await until(() => counts(d).rejected === all, 'all refused')
  expect(counts(d)).toMatchObject({ waiting: 0, missing: 0, arrived: 0 })
  // Among whatever else is told meanwhile where the machine is busy.
  const told = await until(
    async () => {
      await engine.events.flush()
      return (await listEvents(t.db, 500)).find((e) => e.code === 'mqtt.refused-135')
    },
    'the reason to be told',
    70,
  )
  expect(told.message).toContain('not allowed to publish')
  await setRunning(t.db, p.id, false)
})

it('speaks by the clock when asked to', async () => {
  turn()
  const p = await live({ name: 'clock', topic: '{enterprise}/clock/{unit}', trigger: { kind: 'every', seconds: 0.2 } })
  await until(() => counts(p.delivery()).arrived >= 3 * ZONES, 'three rounds')
  await setRunning(t.db, p.id, false)
})

describe('checking a destination', () => {
  const check = async (part: Partial<MqttSettings>, filters = ['varnmoor/+/x'], more: Partial<Planned> = {}) => {
    const steps: Record<string, string> = {}
    const planned = { filters, sends: [], others: [], ...more }
    for await (const s of mqttDriver.check(await engine.targets.target({ name: 'c', settings: { ...settings, ...part } }), planned)) {
      steps[s.key] = s.failure?.code ?? s.state
      if (s.failure) said = `${s.failure.message}. ${s.failure.hint}`
    }
    return steps
  }
  let said = ''
  const send = { publication: 'Kiln', topic: 'varnmoor/kiln/state', assurance: 'acknowledged' as const, kept: false, bytes: 120 }
  it('passes name, port, TLS, log-in and witness', async () => {
    expect(await check({})).toEqual({ name: 'passed', port: 'passed', tls: 'passed', login: 'passed', witness: 'passed' })
  })
  it.each([
    ['no certificate', { credentialId: null }, 'login', 'mqtt.connack-135'],
    ['no TLS on a TLS port', { tls: false }, 'login', 'tls.wanted'],
    ['nobody there', { port: 1 }, 'port', 'port.refused'],
  ])('finds %s at the right step', async (_, part, step, code) => {
    expect((await check(part))[step]).toBe(code)
  })
  it('finds an authority that did not sign the broker', async () => {
    const steps = await check({ authorityId: null })
    expect(steps.tls).toBe('tls.authority')
  })
  it('finds TLS to a plain port, and what is no broker', async () => {
    expect((await check({ port: b.ports.plain })).tls).toBe('tls.none')
    const web = createServer((socket) => socket.end('HTTP/1.1 400 Bad Request\r\n\r\n'))
    const port = await freePort()
    await new Promise<void>((done) => web.listen(port, '127.0.0.1', done))
    expect((await check({ port, tls: false })).login).toBe('mqtt.other')
    web.close()
  })
  it('finds a broker that knows only the older version', async () => {
    b.broker.setFaults({ ...noFaults, oldOnly: true })
    const { login } = await check({})
    expect([login, said]).toEqual(['mqtt.connack-132', expect.stringContaining('Choose the other version')])
    b.broker.setFaults(null)
  })
  it('knows what publications will send: limits, and topics where they may not', async () => {
    expect(await check({}, undefined, { sends: [send] })).toMatchObject({ takes: 'passed', publish: 'passed', witness: 'passed' })
    expect((await check({}, undefined, { sends: [{ ...send, topic: 'elsewhere/kiln/state' }] })).publish).toBe('mqtt.may-not-publish')
    expect(said).toContain('elsewhere/kiln/embrik-check: not allowed')
    for (const [faults, part, words] of [
      [{ maximumQos: 0 }, {}, 'sends at QoS 1'],
      [{ retainAvailable: false }, { kept: true }, 'keeps none'],
      [{ maximumPacketSize: 130 }, {}, 'had 139 octets'],
      [{ maximumPacketSize: 200 }, {}, 'come close to the 200 octets'],
    ] as const) {
      b.broker.setFaults({ ...noFaults, ...faults })
      expect((await check({}, undefined, { sends: [{ ...send, ...part }] })).takes).toBe('mqtt.limits')
      expect(said).toContain(words)
    }
    b.broker.setFaults({ ...noFaults, hangUpOn: 'kiln' })
    expect((await check({}, undefined, { sends: [send] })).publish).toBe('mqtt.hangs-up')
    b.broker.setFaults(null)
  })
  it('finds another destination with the same client id at the same broker', async () => {
    const other = { id: destinationId, kind: 'mqtt' as const, enabled: true, version: 1, publicationCount: 0 }
    const others = [{ ...other, name: 'The other', settings: { ...settings, witnessClientId: settings.clientId, clientId: 'x' } }]
    expect((await check({}, undefined, { others })).login).toBe('mqtt.same-client')
    expect(said).toContain('The other uses the client id')
    expect((await check({}, undefined, { others: [{ ...other, name: 'Far', settings: { ...settings, port: 1 } }] })).login).toBe('passed')
  })
  it('finds a witness that may not read', async () => {
    expect((await check({}, ['other/#'])).witness).toBe('witness.refused')
  })
})
