// Every shape through a real engine and broker: what a bystander gets, read by libraries that know only the formats.
import { gunzipSync, inflateSync } from 'node:zlib'
import { Zstd } from '@hpcc-js/wasm-zstd'
import { decode as unpack } from '@msgpack/msgpack'
import avro from 'avsc'
import cbor from 'cbor'
import type { IPublishPacket, MqttClient } from 'mqtt'
import { get } from 'sparkplug-payload'
import { afterAll, afterEach, beforeAll, describe, expect, it } from 'vitest'
import type { MqttSettings } from '~/contract/destinations/mqtt'
import { type Plan, Preview } from '~/contract/publication'
import { type ShapeInput, ShapeSettings } from '~/contract/shape'
import type { OverMqtt } from '~/core/publication/over-mqtt'
import { avroSchema } from '~/core/shape/avro'
import { decoderOf, scopeOf, shapeKinds } from '~/core/shape/registry'
import { aliasOf } from '~/core/shape/sparkplug-metric'
import { published } from '~/core/shape/sparkplug-published'
import { rebirthCommand } from '~/core/source/sparkplug'
import { Engine } from '~/engine/engine'
import { unpack as inflate } from '~/engine/publications/compress'
import { addDestination, changeDestination } from '~/store/destination'
import { freeze } from '~/store/freeze'
import { goLive, setRunning } from '~/store/going-live'
import { getPublication } from '~/store/publication'
import { changePublication } from '~/store/publication-edit'
import { toTakeBack } from '~/store/taken-back'
import { receiver } from '../handed-over'
import { judged } from './lines'
import { publish, zonesPlant } from './plant'
import { brokerAt, brokerSettings, bystander, folder, freshDatabase, startBroker, type TestBroker, until } from './support'

interface Heard {
  topic: string
  payload: Buffer
  packet: IPublishPacket
}
const KEYS = ['temperature', 'pressure', 'order'] as const
const ZONES = 3
const spB = get('spBv1.0')!

let t: Awaited<ReturnType<typeof freshDatabase>>
let b: TestBroker
let engine: Engine
let settings: MqttSettings
let destinationId: string
let equipmentIds: string[]
let handles: number[]
let listener: MqttClient
let heard: Heard[] = []

beforeAll(async () => {
  t = await freshDatabase()
  b = await startBroker()
  settings = await brokerSettings(t.db, t.vault, b.ports)
  ;({ handles, equipmentIds } = await zonesPlant(t.db, t.vault, ZONES, KEYS))
  destinationId = (await addDestination(t.db, { name: 'Broker', kind: 'mqtt', enabled: true, settings })).id
  listener = await bystander(b.ports, 'bystander', (topic, payload, packet) => {
    // Its own commands come back to it.
    if (!topic.includes('/NCMD/')) heard.push({ topic, payload, packet })
  })
  await listener.subscribeAsync(['varnmoor/#', 'spBv1.0/varnmoor/#'], { qos: 1, rap: true })
  engine = new Engine({ db: t.db, url: t.url, vault: t.vault, workFolder: folder('engine') })
  await engine.start()
})
// A test that failed leaves nothing to the next one that would be heard there.
afterEach(async () => {
  for (const id of engine.publishers.keys()) await setRunning(t.db, id, false)
  await until(() => engine.publishers.size === 0, 'every publication to be paused')
})
afterAll(async () => {
  listener.end(true)
  await engine.stop()
  await b.broker.stop()
  await t.drop()
})

/** Gives every tag a value; `bad` makes the pressures bad. */
function values(n: number, bad = false): void {
  const now = Date.now()
  engine.table.apply({
    handles,
    values: handles.map((_, i) => (bad && i % KEYS.length === 1 ? null : n + i)),
    statuses: handles.map((_, i) => (bad && i % KEYS.length === 1 ? 0x808c0000 : 0)),
    times: handles.map(() => now),
  })
}
const counts = (delivery: number) => engine.ledger.countsOf(delivery)!
async function live(part: Partial<OverMqtt>): Promise<Plan & { id: string }> {
  const id = await publish(t.db, { destinationId, equipmentIds, ...part })
  await until(() => engine.publishers.has(id), 'the publication to be live')
  return { ...engine.publishers.get(id)!.plan, id }
}
async function settled(plan: Plan): Promise<void> {
  await until(() => counts(plan.delivery).produced > 0 && judged(engine, plan.delivery), `the ledger of ${plan.name} to settle`)
  const c = counts(plan.delivery)
  expect({ ...c, acknowledged: c.confirmed }, JSON.stringify(c)).toMatchObject({
    confirmed: c.produced,
    missing: 0,
    altered: 0,
    doubled: 0,
    foreign: 0,
  })
}
/** Everything that was heard of a publication is as its receivers were told. */
async function asHandedOver(plan: Plan & { id: string }): Promise<void> {
  const draft = await getPublication(t.db, plan.id)
  const read = await receiver(JSON.parse(await engine.contract(draft, plan.id, 'asyncapi')) as object)
  const told = heard.map(({ topic, payload, packet }) => {
    const headers = { ...packet.properties?.userProperties } as Record<string, string>
    return payload.length === 0 && plan.shape.kind !== 'value' ? null : read({ topic, payload, headers })
  })
  expect(told.filter((x) => typeof x === 'string')).toEqual([])
  if (plan.shape.kind !== 'sparkplug-b') expect(told.filter((x) => x === null).length).toBeGreaterThan(0)
}
const over = async (id: string) => {
  await setRunning(t.db, id, false)
  await until(() => !engine.publishers.has(id), 'the pause')
}

const tree = { temperature: 100, pressure: 101, order: 102 }
type Check = (h: Heard, plan: Plan) => unknown
const json: Check = (h) => JSON.parse(h.payload.toString())
/** What another reader finds in the first zone's message. */
const cases: [ShapeInput, Partial<OverMqtt>, Check, unknown][] = [
  [{ kind: 'flat-json' }, {}, json, tree],
  [{ kind: 'flat-json', compression: 'gzip' }, {}, (h) => JSON.parse(gunzipSync(h.payload).toString()), tree],
  [{ kind: 'nested-json', compression: 'zlib' }, {}, (h) => JSON.parse(inflateSync(h.payload).toString()), tree],
  [
    { kind: 'nested-json', per: 'publication', compression: 'zstd' },
    { topic: '{enterprise}/zstd' },
    async (h) => JSON.parse(new TextDecoder().decode((await Zstd.load()).decompress(h.payload))),
    { equipment: { 'Zone 1': tree } },
  ],
  [{ kind: 'value' }, { topic: '{enterprise}/v/{unit}/{member}' }, (h) => Number(h.payload.toString()), 100],
  [{ kind: 'value-quality-time' }, { topic: '{enterprise}/vqt/{tag}' }, json, { value: 100, quality: 'good' }],
  [{ kind: 'template', body: '{"t":${temperature},"unit":"${equipment}"}' }, {}, json, { t: 100, unit: 'Zone 1' }],
  [
    { kind: 'rows', form: 'csv', per: 'publication' },
    { topic: '{enterprise}/rows' },
    (h) => h.payload.toString().split('\r\n')[1],
    expect.stringMatching(/^Zone 1,temperature,100,good,/),
  ],
  [
    { kind: 'sparkplug-b', group: 'varnmoor', aliases: false, compression: 'gzip' },
    {},
    (h) => metrics(gunzipSync(spB.decodePayload(h.payload).body as Buffer)),
    tree,
  ],
  [{ kind: 'pubsub-json' }, {}, (h) => JSON.parse(h.payload.toString()).Messages[0].Payload, { temperature: { UaType: 11, Value: 100 } }],
  [
    { kind: 'pubsub-uadp', metadata: false },
    {},
    (h, plan) => decoderOf(plan.shape, scopeOf(plan, plan.messages[0]!))(h.payload),
    { kind: 'key frame', readings: [{ value: 100 }, { value: 101 }, { value: 102 }] },
  ],
  [
    { kind: 'cloudevents', mode: 'binary', type: 'works.varnmoor.equipment.state' },
    {},
    (h) => ({
      ...JSON.parse(h.payload.toString()),
      type: h.packet.properties!.userProperties!.type,
      specversion: h.packet.properties!.userProperties!.specversion,
    }),
    { ...tree, type: 'works.varnmoor.equipment.state', specversion: '1.0' },
  ],
  [
    { kind: 'avro', framing: 'plain' },
    {},
    (h, plan) => ({
      ...(avro.Type.forSchema(avroSchema(plan.shape as never, plan.equipment[0]!) as never, { wrapUnions: false }).fromBuffer(h.payload) as object),
    }),
    tree,
  ],
  [{ kind: 'cbor' }, {}, (h) => cbor.decodeFirstSync(h.payload), tree],
  [{ kind: 'messagepack' }, {}, (h) => unpack(h.payload), tree],
  [
    { kind: 'device-facts' },
    { topic: '{enterprise}/facts', trigger: { kind: 'every', seconds: 1 } },
    json,
    { node: { version: '0.1.0' }, equipment: [{ name: 'Zone 1', class: 'Zone' }, {}, {}] },
  ],
]
const metrics = (payload: Buffer) => Object.fromEntries((spB.decodePayload(payload).metrics ?? []).map((m) => [m.name, m.value]))

it('every shape has its case', () => expect(new Set(cases.map(([s]) => s.kind))).toEqual(new Set(shapeKinds)))

describe.each(cases.map(([input, part, check, found], i) => [JSON.stringify(input).slice(0, 70), i, input, part, check, found] as const))(
  '%s',
  (_, i, input, part, check, found) => {
    it('is what another reader finds, and the ledger confirms it', async () => {
      heard = []
      values(100)
      const plan = await live({ name: `shape ${i}`, shape: ShapeSettings.parse(input), topic: `{enterprise}/s${i}/{unit}`, ...part })
      await settled(plan)
      const first = plan.messages[0]!.place as string
      const own = await until(() => heard.find((h) => h.topic === first), `a message on ${first}`)
      const seen = await check(own, plan)
      if (typeof found === 'object') expect(seen).toMatchObject(found as object)
      else expect(seen).toEqual(found)
      expect(own.packet.properties?.contentType).toBe(plan.contentType)
      // What people are shown is read again by the shape itself.
      const last = await until(() => engine.lastMessage(plan.id), 'a message to be shown')
      expect(last.message.read.problem).toBe('')
      // A bad value has its mark, or is left out; nothing breaks.
      values(200, true)
      await settled(plan)
      await asHandedOver(plan)
      await over(plan.id)
    })
  },
)

it('what was compressed is unpacked up to a size, not beyond', async () => {
  const zstd = await Zstd.load()
  const bomb = zstd.compress(new Uint8Array(50_000_000))
  expect(() => inflate('zstd', bomb, 1_000_000)).toThrow('50000000')
  expect(() => inflate('zlib', Buffer.from(new Uint8Array(9)))).toThrow()
})

it('an address has values and times of the message, headers, expiry and a response topic; what steers stays out of the payload', async () => {
  heard = []
  const plan = await live({
    name: 'steered',
    topic: '{enterprise}/orders/{value.order}/{unit}',
    headers: [
      { name: 'zone', value: '{path}' },
      { name: 'order', value: 'no. {value.order|pad(5)}' },
    ],
    steersOnly: true,
    expiryS: 60,
    responseTopic: '{enterprise}/answers/{unit}',
    contentType: 'application/vnd.varnmoor+json',
  })
  expect(plan.reads).toEqual(['varnmoor/orders/+/+'])
  values(300)
  const own = await until(() => heard.find((h) => h.topic === 'varnmoor/orders/302/zone-1'), 'the message')
  expect(Object.keys(JSON.parse(own.payload.toString()))).toEqual(['at', 'temperature', 'pressure'])
  const p = own.packet.properties!
  expect(p).toMatchObject({ contentType: 'application/vnd.varnmoor+json', responseTopic: 'varnmoor/answers/zone-1' })
  expect({ ...p.userProperties }).toMatchObject({ zone: 'Varnmoor/Zone 1', order: 'no. 00302' })
  expect(p.messageExpiryInterval).toBeGreaterThan(50)
  await settled(plan)
  await asHandedOver(plan)
  await over(plan.id)
})

it('only what changed, and the whole message now and then', async () => {
  const plan = await live({
    name: 'changes',
    topic: '{enterprise}/changes/{unit}',
    equipmentIds: equipmentIds.slice(0, 1),
    shape: ShapeSettings.parse({ kind: 'flat-json', members: 'changed', fullEvery: 3 }),
  })
  await settled(plan)
  heard = []
  for (const n of [1, 2, 3]) {
    engine.table.apply({ handles: [handles[0]!], values: [1000 + n], statuses: [0], times: [Date.now()] })
    await until(() => heard.length === n, `message ${n}`)
  }
  expect(heard.map((h) => Object.keys(JSON.parse(h.payload.toString())).filter((k) => k !== 'at'))).toEqual([
    ['temperature'],
    ['temperature'],
    ['temperature', 'pressure', 'order'],
  ])
  await settled(plan)
  await asHandedOver(plan)
  await over(plan.id)
})

it('two publications do not go live under one publisher id', async () => {
  values(150)
  const uadp = (publisherId: number) => ShapeSettings.parse({ kind: 'pubsub-uadp', publisherId })
  const plan = await live({ name: 'first publisher', shape: uadp(9), topic: '{enterprise}/first/{unit}' })
  const second = { name: 'second publisher', topic: '{enterprise}/second/{unit}' }
  await expect(live({ ...second, shape: uadp(9) })).rejects.toThrow('first publisher has the publisher id 9')
  const other = await live({ ...second, name: 'third publisher', shape: uadp(10) })
  await settled(other)
  await over(other.id)
  await over(plan.id)
})

it('retained messages that a new address leaves behind are taken back', async () => {
  const plan = await live({ name: 'kept', topic: '{enterprise}/kept/{unit}', retain: true })
  await settled(plan)
  heard = []
  const now = await getPublication(t.db, plan.id)
  const draft = { ...now, address: { ...now.address, topic: '{enterprise}/moved/{unit}' } }
  const { leftBehind } = Preview.parse(JSON.parse(await engine.preview(draft, undefined, plan.id)))
  expect(leftBehind).toEqual(['varnmoor/kept/zone-1', 'varnmoor/kept/zone-2', 'varnmoor/kept/zone-3'])
  await changePublication(t.db, plan.id, draft)
  await goLive(t.db, plan.id, 'test', freeze, { takeBack: true })
  await until(() => heard.filter((h) => h.topic.startsWith('varnmoor/kept/') && h.payload.length === 0).length === 3, 'the empty messages')
  await until(() => heard.filter((h) => h.topic.startsWith('varnmoor/moved/')).length >= 3, 'the new ones')
  // A new subscriber finds the new ones only.
  const late: string[] = []
  const newcomer = await bystander(b.ports, 'newcomer', (topic) => void late.push(topic))
  await newcomer.subscribeAsync('varnmoor/#', { qos: 1 })
  await until(() => late.filter((x) => x.startsWith('varnmoor/moved/')).length === 3, 'what is retained')
  expect(late.filter((x) => x.startsWith('varnmoor/kept/'))).toEqual([])
  newcomer.end(true)
  await settled(engine.publishers.get(plan.id)!.plan)
  await until(async () => (await toTakeBack(t.db)).size === 0, 'it to be stored')
  // An engine that ended before it was done leaves it to the next: not what a version since then sends again.
  const { delivery } = engine.publishers.get(plan.id)!.plan
  // While it is paused: what runs would take back what it does not send.
  await over(plan.id)
  for (const place of ['varnmoor/kept/zone-1', 'varnmoor/kept/zone-gone']) await t.db.insertInto('taken_back').values({ delivery, place }).execute()
  heard = []
  await changePublication(t.db, plan.id, { ...draft, address: now.address })
  await goLive(t.db, plan.id, 'test', freeze)
  await until(() => heard.some((h) => h.topic === 'varnmoor/kept/zone-gone'), 'what was still to be taken back')
  await until(() => heard.some((h) => h.topic === 'varnmoor/kept/zone-1'), 'the topic to be used again')
  await settled(engine.publishers.get(plan.id)!.plan)
  expect(heard.filter((h) => h.payload.length === 0).map((h) => h.topic)).toEqual(['varnmoor/kept/zone-gone'])
  await over(plan.id)
})

describe('a Sparkplug edge node', () => {
  const name = (h: Heard) => h.topic.split('/').slice(2).join('/')
  const payload = (h: Heard) => spB.decodePayload(h.payload)
  /** Data tells no datatypes, so that only the definition itself can read it. */
  const data = (h: Heard) =>
    (published.toObject(published.decode(h.payload), { longs: Number }) as { metrics?: Record<string, unknown>[] }).metrics ?? []
  const bd = (h: Heard) => Number(payload(h).metrics!.find((m) => m.name === 'bdSeq')!.value)

  it('is born with all its devices, speaks by alias, is born again when asked, and dies with its connection', async () => {
    heard = []
    values(400)
    const plan = await live({ name: 'node', qos: 1, shape: ShapeSettings.parse({ kind: 'sparkplug-b', group: 'varnmoor', node: 'kiln' }) })
    await until(() => heard.some((h) => name(h).startsWith('DDATA')), 'data')
    const births = heard.filter((h) => !name(h).startsWith('DDATA'))
    expect(births.map(name)).toEqual(['NBIRTH/kiln', 'DBIRTH/kiln/Zone 1', 'DBIRTH/kiln/Zone 2', 'DBIRTH/kiln/Zone 3'])
    const zone = payload(births[1]!)
    expect(zone.metrics!.map((m) => [m.name, m.type])).toEqual(KEYS.map((k) => [k, 'Double']))
    expect(Number(zone.metrics![0]!.alias)).toBe(aliasOf(plan.equipment[0]!, plan.equipment[0]!.members[0]!))
    await settled(plan)
    // Each message has the next number, births and data alike.
    expect(heard.map((h) => Number(payload(h).seq))).toEqual(heard.map((_, i) => i))

    engine.table.apply({ handles: [handles[0]!], values: [451.5], statuses: [0], times: [Date.now()] })
    const change = await until(() => heard.find((h) => data(h).some((m) => m.doubleValue === 451.5)), 'the change')
    expect(data(change)).toEqual([{ alias: Number(zone.metrics![0]!.alias), doubleValue: 451.5, timestamp: expect.any(Number) }])

    const before = heard.length
    await listener.publishAsync('spBv1.0/varnmoor/NCMD/kiln', Buffer.from(rebirthCommand(Date.now())), { qos: 1 })
    await until(() => heard.length >= before + 4, 'the births again')
    expect(heard.slice(before, before + 4).map((h) => Number(payload(h).seq))).toEqual([0, 1, 2, 3])
    expect(bd(heard[before]!)).toBe(bd(births[0]!))

    // The link breaks: its will says so, and the next birth has a later number: one for every try to connect.
    heard = []
    b.broker.cut(0.5)
    const death = await until(() => heard.find((h) => name(h) === 'NDEATH/kiln'), 'the death')
    expect(bd(death)).toBe(bd(births[0]!))
    const again = await until(
      () => heard.find((h) => name(h) === 'NBIRTH/kiln'),
      () =>
        `the birth after it; at the broker ${b.broker.truth.arrivals.slice(-6).map((a) => a.topic)}; heard ${heard.map(name)}; the listener is ${
          listener.connected ? 'there' : 'away'
        }; ${[...engine.destinations.values()].map((d) => JSON.stringify(d.present()))}`,
    )
    expect(bd(again)).toBeGreaterThan(bd(death))
    values(410)
    await settled(plan)
    await over(plan.id)
    const last = await until(() => heard.filter((h) => name(h) === 'NDEATH/kiln')[1], 'the death when it is paused')
    expect(bd(last)).toBe(bd(again))
  })

  it('waits for its primary host, and stops when that goes; nothing is lost', async () => {
    heard = []
    const state = (online: boolean) =>
      listener.publishAsync('spBv1.0/STATE/board', JSON.stringify({ online, timestamp: Date.now() }), { qos: 1, retain: true })
    values(500)
    const plan = await live({
      name: 'hosted',
      shape: ShapeSettings.parse({ kind: 'sparkplug-b', group: 'varnmoor', node: 'hosted', primaryHost: 'board' }),
    })
    await until(() => engine.destinationConditions()[destinationId]!.sender.reason.includes('primary host'), 'the reason to be told', 40)
    expect(heard.filter((h) => name(h).includes('BIRTH/hosted'))).toEqual([])
    await state(true)
    await until(() => heard.some((h) => name(h) === 'DBIRTH/hosted/Zone 3'), 'the births', 40)
    await settled(plan)
    await state(false)
    await until(() => heard.some((h) => name(h) === 'NDEATH/hosted'), 'the death')
    values(600)
    await state(true)
    await settled(plan)
    expect(heard.filter((h) => name(h) === 'NBIRTH/hosted').length).toBeGreaterThanOrEqual(2)
    await over(plan.id)
  })

  it('is one publication: a second as the same node is refused before it goes live', async () => {
    const plan = await live({ name: 'one', shape: ShapeSettings.parse({ kind: 'sparkplug-b', group: 'varnmoor', node: 'one' }) })
    await expect(live({ name: 'two', shape: ShapeSettings.parse({ kind: 'sparkplug-b', group: 'varnmoor', node: 'one' }) })).rejects.toThrow(
      'one is the edge node varnmoor/one',
    )
    await over(plan.id)
  })
})

it('over MQTT 3.1.1 too, whose messages carry no ids: each is confirmed by topic and payload', async () => {
  const d = await brokerAt(t.db, destinationId)
  const destinationOf = () => {
    const one = engine.destinations.get(destinationId)!
    return { witness: one.witness, destination: one.destination, present: () => one.present() }
  }
  const before = destinationOf().witness
  await changeDestination(t.db, d.id, { ...d, settings: { ...settings, protocol: '3.1.1' } })
  // What goes out before the new witness listens is unknown, and says so: that is not what is looked at here.
  await until(() => {
    const { witness, destination, present } = destinationOf()
    return destination.version > d.version && witness !== before && witness?.view() && present().state === 'running'
  }, 'the change')
  values(700)
  // What needs headers does not go live there.
  const binary = ShapeSettings.parse({ kind: 'cloudevents', mode: 'binary' })
  await expect(live({ name: 'headless', shape: binary, topic: '{enterprise}/headless/{unit}' })).rejects.toThrow('CloudEvents in binary mode')
  for (const [i, input] of ([{ kind: 'cbor' }, { kind: 'sparkplug-b', group: 'varnmoor', node: 'old' }] as const).entries()) {
    const plan = await live({ name: `three ${i}`, shape: ShapeSettings.parse(input), topic: `{enterprise}/three${i}/{unit}` })
    await settled(plan)
    for (let n = 0; n < 5; n++) values(710 + n)
    await settled(plan)
    await over(plan.id)
  }
})
