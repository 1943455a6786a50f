// The session of an edge node, statement by statement (Sparkplug 3.0): one history on a recorded wire, and what has to hold in it.

import type { MqttClient } from 'mqtt'
import type { IConnectPacket, IPublishPacket, ISubscribePacket } from 'mqtt-packet'
import protobuf from 'protobufjs/minimal.js'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import type { Plan } from '~/contract/publication'
import { ShapeSettings } from '~/contract/shape'
import { aliasOf } from '~/core/shape/sparkplug-metric'
import { published } from '~/core/shape/sparkplug-published'
import { rebirthCommand } from '~/core/source/sparkplug'
import { Status } from '~/core/value/quality'
import { Engine } from '~/engine/engine'
import { wrongNow } from '~/engine/wrong'
import { addCredential } from '~/store/credential'
import { addDestination } from '~/store/destination'
import { listEvents } from '~/store/event'
import { setRunning } from '~/store/going-live'
import { judged } from './lines'
import { publish, zonesPlant } from './plant'
import { type Recorded, recorder } from './recorder'
import { pause } from './scene'
import { brokerSettings, bystander, folder, freshDatabase, startBroker, type TestBroker, until } from './support'

interface Metric {
  name?: string
  alias?: number
  timestamp?: number
  datatype?: number
  isHistorical?: boolean
  isNull?: boolean
  doubleValue?: number
  stringValue?: string
  longValue?: number
  booleanValue?: boolean
  properties?: { keys: string[]; values: { type: number; intValue?: number; stringValue?: string }[] }
}
interface Told {
  connection: number
  topic: string
  type: string
  device: string | null
  qos: number
  retain: boolean
  at: number
  payload: { timestamp?: number; seq?: number; metrics?: Metric[] }
}
const KEYS = ['temperature', 'pressure'] as const
const ZONES = 3
const HOST = 'spBv1.0/STATE/board'
const KILN = 'sender/varnmoor/kiln'
const MILL = 'sender/varnmoor/mill'

let t: Awaited<ReturnType<typeof freshDatabase>>
let b: TestBroker
let wire: Awaited<ReturnType<typeof recorder>>
let engine: Engine
let host: MqttClient
let handles: number[]
let plan: Plan
let destinationId: string
let T: number
let waitedMs = 0
let connectionsWhileWaiting = 0
let plainDelivery = 0
let mill: Plan
/** What the first page says while messages wait for a node that is not live. */
let heldWords: string[] = []
/** Where in the record a part of the history began. */
const marks: Record<string, number> = {}

const read = (payload: Buffer | string) => published.toObject(published.decode(payload as Buffer), { longs: Number }) as Told['payload']
const clientOf = (connection: number) =>
  wire.packets.flatMap((p) => (p.connection === connection && p.packet.cmd === 'connect' ? [(p.packet as IConnectPacket).clientId] : []))[0]
const isNode = (connection: number, client = KILN) => clientOf(connection) === client
/** What the node said, in the order of the wire. */
function told(from = 0, to = wire.packets.length, client = KILN): Told[] {
  return wire.packets.slice(from, to).flatMap(({ connection, from: who, packet }, i): Told[] => {
    if (who !== 'client' || packet.cmd !== 'publish' || !packet.topic.startsWith('spBv1.0/') || !isNode(connection, client)) return []
    const { topic, qos, retain, payload } = packet as IPublishPacket
    const [, , type, , device] = topic.split('/')
    return [{ connection, topic, type: type!, device: device ?? null, qos, retain, at: from + i, payload: read(payload as Buffer) }]
  })
}
const connects = () =>
  wire.packets.filter((p): p is Recorded & { packet: IConnectPacket } => p.packet.cmd === 'connect' && (p.packet as IConnectPacket).clientId === KILN)
const between = (a: string, z?: string) => told(marks[a], z === undefined ? undefined : marks[z])
const kinds = (list: readonly Told[]) => list.map((m) => (m.device ? `${m.type} ${m.device}` : m.type))
const bdSeq = (m: Pick<Told, 'payload'>) => m.payload.metrics!.find((x) => x.name === 'bdSeq')!.longValue!
const mark = (name: string) => {
  marks[name] = wire.packets.length
}
const state = (text: string) => host.publishAsync(HOST, text, { qos: 1, retain: true })
const says = (online: boolean, timestamp: number) => state(JSON.stringify({ online, timestamp }))
const zone = (n: number) => handles.slice((n - 1) * KEYS.length, n * KEYS.length)
const set = (of: number[], value: number) => {
  const now = Date.now()
  engine.table.apply({ handles: of, values: of.map((_, i) => value + i), statuses: of.map(() => 0), times: of.map(() => now) })
}
const command = (topic: string, name: string) => {
  const metric = protobuf.Writer.create().uint32(10).string(name).uint32(32).uint32(10).uint32(105).double(5).finish()
  const payload = protobuf.Writer.create().uint32(8).uint64(Date.now()).uint32(18).bytes(metric).finish()
  return host.publishAsync(topic, Buffer.from(payload), { qos: 1 })
}
const reason = () => engine.destinationConditions()[destinationId]!.sender.reason
const settled = (delivery = plan.delivery) =>
  until(() => engine.ledger.countsOf(delivery)!.produced > 0 && judged(engine, delivery), 'the ledger to settle')
const heard = (what: (m: Told) => boolean, from: string, words: string) => until(() => between(from).find(what), words)

/** Another node and a plain publication at the same destination: they begin, one is paused while something waits, and goes on. */
async function neighbours(equipmentIds: string[]): Promise<void> {
  const office = (online: boolean) =>
    host.publishAsync('spBv1.0/STATE/office', JSON.stringify({ online, timestamp: Date.now() }), { qos: 1, retain: true })
  await office(true)
  const bare = await publish(t.db, {
    name: 'plain',
    destinationId,
    equipmentIds,
    shape: ShapeSettings.parse({ kind: 'cbor' }),
    topic: 'plain/{unit}',
  })
  const { delivery } = (await until(() => engine.publishers.get(bare), 'the plain publication')).plan
  await settled(delivery)
  mark('neighbours')
  plainDelivery = delivery
  const shape = ShapeSettings.parse({ kind: 'sparkplug-b', group: 'varnmoor', node: 'mill', primaryHost: 'office' })
  const id = await publish(t.db, { name: 'second node', destinationId, equipmentIds, shape })
  mill = (await until(() => engine.publishers.get(id), 'the second node')).plan
  await settled(mill.delivery)
  await office(false)
  await until(() => reason().startsWith('node varnmoor/mill: '), 'the second node to wait for its host')
  set(zone(1), 630)
  await until(() => engine.ledger.countsOf(mill.delivery)!.waiting > 0, 'messages of the second node to wait')
  await setRunning(t.db, id, false)
  await until(() => engine.destinationConditions()[destinationId]!.sender.state === 'running', 'the destination to be well without it')
  heldWords = wrongNow(engine)
    .now.filter((w) => w.where === 'outbox')
    .map((w) => `${w.subject}: ${w.cause}`)
  mark('second paused')
  await office(true)
  set(zone(1), 640)
  await settled(delivery)
  await settled()
  mark('second back')
  await setRunning(t.db, id, true)
  await settled(mill.delivery)
}

beforeAll(async () => {
  t = await freshDatabase()
  b = await startBroker()
  wire = await recorder(b.ports.plain)
  const login = (name: string, user: string, secret: string) =>
    addCredential(t.db, t.vault, { name, kind: 'password', certificate: null, facts: null, user, secret })
  const sender = await login('sender login', 'embrik', 'clay-sender-1')
  const witness = await login('witness login', 'witness', 'clay-witness-2')
  const settings = {
    ...(await brokerSettings(t.db, t.vault, b.ports)),
    ...{ port: wire.port, tls: false, authorityId: null, credentialId: sender.id, witnessCredentialId: witness.id },
  }
  let equipmentIds: string[]
  ;({ handles, equipmentIds } = await zonesPlant(t.db, t.vault, ZONES, KEYS))
  destinationId = (await addDestination(t.db, { name: 'Broker', kind: 'mqtt', enabled: true, settings })).id
  engine = new Engine({ db: t.db, url: t.url, vault: t.vault, workFolder: folder('sparkplug') })
  await engine.start()
  set(handles, 100)
  host = await bystander(b.ports, 'board', () => undefined)
  T = Date.now()

  // A host that was here before, and one that says what is no state.
  mark('waiting')
  await says(false, T - 1000)
  const shape = ShapeSettings.parse({ kind: 'sparkplug-b', group: 'varnmoor', node: 'kiln', primaryHost: 'board', members: 'changed' })
  const id = await publish(t.db, { name: 'node', destinationId, equipmentIds, shape, qos: 2, retain: true })
  await until(() => reason().includes('primary host'), 'it to wait for its host')
  connectionsWhileWaiting = connects().length
  const began = performance.now()
  for (const wrong of ['ONLINE', '{"online":"true","timestamp":9}', '{"online":true}', '[true]', '']) await state(wrong)
  await says(true, T - 2000)
  await until(() => reason().includes('older than what it said before'), 'it to say why it does not believe its host')
  // Longer than any wait for it was before.
  await pause(6500)
  waitedMs = performance.now() - began
  connectionsWhileWaiting = connects().length - connectionsWhileWaiting

  mark('births')
  await says(true, T)
  plan = (await until(() => engine.publishers.get(id), 'the publication')).plan
  await heard((m) => m.type === 'DDATA' && m.device === 'Zone 3', 'births', 'data of all devices')
  await settled()

  mark('change')
  set(zone(1).slice(0, 1), 451.5)
  await heard((m) => m.type === 'DDATA', 'change', 'the change')
  await settled()

  // An older word of the host says nothing.
  mark('older')
  await says(false, T - 500)
  set(zone(1), 200)
  await heard((m) => m.type === 'DDATA', 'older', 'data after it')

  mark('lost')
  engine.table.mark(zone(2), Status.lastUsable)
  await heard((m) => m.type === 'DDEATH', 'lost', 'the death of a device')
  engine.table.mark(zone(2), Status.noCommunication)
  mark('rebirth')
  await host.publishAsync('spBv1.0/varnmoor/NCMD/kiln', Buffer.from(rebirthCommand(Date.now())), { qos: 1 })
  await until(() => kinds(between('rebirth')).filter((k) => k.startsWith('DBIRTH')).length >= 2, 'the births again')
  // Asked again at once: later, and not never.
  await host.publishAsync('spBv1.0/varnmoor/NCMD/kiln', Buffer.from(rebirthCommand(Date.now())), { qos: 1 })
  await until(() => kinds(between('rebirth')).filter((k) => k === 'NBIRTH').length >= 2, 'the births once more')
  mark('back')
  set(zone(2), 300)
  await heard((m) => m.type === 'DDATA' && m.device === 'Zone 2', 'back', 'the device to be back')
  await settled()

  mark('commands')
  await command('spBv1.0/varnmoor/NCMD/kiln', 'Node Control/Reboot')
  await command('spBv1.0/varnmoor/DCMD/kiln/Zone 1', 'temperature')
  await heard((m) => m.type === 'NDATA' && (m.payload.metrics ?? []).some((x) => x.stringValue?.includes('Zone 1')), 'commands', 'the answer')

  mark('host gone')
  await says(false, T + 1000)
  await heard((m) => m.type === 'NDEATH', 'host gone', 'the death')
  await until(() => reason().includes('primary host'), 'it to wait again')
  set(zone(1), 600)
  set(zone(3), 700)
  await until(() => engine.ledger.countsOf(plan.delivery)!.waiting > 0, 'messages to wait')
  const since = () => wire.packets.slice(marks['host gone'])
  await until(() => since().some((p) => p.from === 'client' && p.packet.cmd === 'subscribe' && isNode(p.connection)), 'it to be connected and wait')
  mark('host back')
  await says(true, T + 2000)
  await until(() => between('host back').filter((m) => m.type === 'DDATA').length >= 2, 'what waited')
  await settled()
  mark('after')
  set(zone(1), 610)
  await heard((m) => m.type === 'DDATA', 'after', 'data after it')
  await settled()

  // A cut link, and a broker that is away for some tries.
  mark('cut')
  wire.cut()
  await until(() => between('cut').filter((m) => m.type === 'NBIRTH').length > 0, 'the births after a cut', 60)
  set(zone(1), 620)
  await heard((m) => m.type === 'DDATA', 'cut', 'data after the cut')
  await settled()

  await neighbours(equipmentIds)

  mark('end')
  await setRunning(t.db, id, false)
  await heard((m) => m.type === 'NDEATH', 'end', 'the death when it is paused')
  await until(() => wire.packets.slice(marks.end).some((p) => p.packet.cmd === 'disconnect'), 'the farewell')
}, 300_000)
afterAll(async () => {
  host?.end(true)
  await engine?.stop()
  await wire?.stop()
  await b?.broker.stop()
  await t?.drop()
})

describe('topics and ids (4)', () => {
  it('every topic is namespace, group, kind of message, node, and the device where there is one', () => {
    for (const m of told())
      expect(m.topic).toMatch(m.device ? /^spBv1\.0\/varnmoor\/D[A-Z]+\/kiln\/Zone [123]$/ : /^spBv1\.0\/varnmoor\/N[A-Z]+\/kiln$/)
  })
  it('device messages name their device, node messages none', () => {
    for (const m of told()) expect(m.type.startsWith('D')).toBe(m.device !== null)
  })
})

describe('the connection (5.4)', () => {
  it('begins clean and leaves no session', () => {
    for (const { packet } of connects().filter((c) => c.packet.will)) {
      expect(packet.clean).toBe(true)
      expect(packet.properties?.sessionExpiryInterval ?? 0).toBe(0)
    }
  })
  it('its will is the death of the node, QoS 1, not retained, with bdSeq alone and no number', () => {
    const wills = connects().flatMap((c) => (c.packet.will ? [c.packet.will] : []))
    expect(wills.length).toBeGreaterThanOrEqual(3)
    for (const will of wills) {
      expect(will).toMatchObject({ topic: 'spBv1.0/varnmoor/NDEATH/kiln', qos: 1, retain: false })
      const payload = read(will.payload as Buffer)
      expect(payload.metrics!.map((m) => m.name)).toEqual(['bdSeq'])
      expect(payload.seq).toBeUndefined()
    }
  })
  it('bdSeq of birth, will and death are one, and count up by one with each connection', () => {
    const wills = connects().flatMap((c) =>
      c.packet.will ? [{ connection: c.connection, n: bdSeq({ payload: read(c.packet.will.payload as Buffer) }) }] : [],
    )
    wills.forEach((w, i) => {
      if (i > 0) expect(w.n).toBe((wills[i - 1]!.n + 1) % 256)
      for (const m of told().filter((x) => x.connection === w.connection && (x.type === 'NBIRTH' || x.type === 'NDEATH'))) expect(bdSeq(m)).toBe(w.n)
    })
  })
  it('subscribes to NCMD, DCMD and the state of its host at QoS 1 before its birth', () => {
    for (const { connection, packet } of connects()) {
      if (!packet.will) continue
      const own = wire.packets.filter((p) => p.connection === connection && p.from === 'client').map((p) => p.packet)
      const subscribed = own.findIndex((p) => p.cmd === 'subscribe')
      const born = own.findIndex((p) => p.cmd === 'publish')
      expect(born === -1 || subscribed < born).toBe(true)
      const { subscriptions } = own[subscribed] as ISubscribePacket
      expect(subscriptions.map((s) => [s.topic, s.qos]).sort()).toEqual([
        [HOST, 1],
        ['spBv1.0/varnmoor/DCMD/kiln/+', 1],
        ['spBv1.0/varnmoor/NCMD/kiln', 1],
      ])
    }
  })
  it('ends on purpose with the death of the node, and then says farewell', () => {
    const last = wire.packets.slice(marks.end).filter((p) => p.from === 'client' && isNode(p.connection))
    const death = last.findIndex((p) => p.packet.cmd === 'publish' && p.packet.topic.includes('/NDEATH/'))
    expect(death).toBeGreaterThanOrEqual(0)
    expect(last.findIndex((p) => p.packet.cmd === 'disconnect')).toBeGreaterThan(death)
    expect(bdSeq(between('end').find((m) => m.type === 'NDEATH')!)).toBe(bdSeq(between('cut').findLast((m) => m.type === 'NBIRTH')!))
  })
})

describe('several nodes at one destination (5.1)', () => {
  const others = (from: string, to?: string) =>
    wire.packets
      .slice(marks[from], to === undefined ? undefined : marks[to])
      .flatMap((p) => (p.packet.cmd === 'connect' ? [(p.packet as IConnectPacket).clientId] : []))
  it('each has a connection, a witness and an account by itself; the others keep theirs', () => {
    expect(new Set(others('neighbours', 'end'))).toEqual(new Set([MILL, 'reader/varnmoor/mill']))
    const after = wire.packets.slice(marks.neighbours, marks.end).filter((p) => p.from === 'client' && p.packet.cmd === 'disconnect')
    expect(after.map((p) => clientOf(p.connection)).every((c) => c === MILL)).toBe(true)
    for (const d of [plainDelivery, plan.delivery])
      expect(engine.ledger.countsOf(d)).toMatchObject({ waiting: 0, missing: 0, unknown: 0, doubled: 0, dropped: 0 })
  })
  it('what waits for a node that is paused goes out after its next birth, and not before', () => {
    expect(heldWords).toEqual([
      expect.stringMatching(/^Outbox of Broker, node varnmoor\/mill: \d+ messages? waits? for node varnmoor\/mill, which is not live$/),
    ])
    expect(told(marks['second paused'], marks['second back'], MILL)).toEqual([])
    expect(others('second paused', 'second back')).toEqual([])
    const back = told(marks['second back'], marks.end, MILL)
    expect(kinds(back).slice(0, 4)).toEqual(['NBIRTH', 'DBIRTH Zone 1', 'DBIRTH Zone 2', 'DBIRTH Zone 3'])
    const waited = back.filter((m) => m.type === 'DDATA' && m.payload.metrics?.some((x) => x.doubleValue === 630))
    expect(waited).toHaveLength(1)
    expect(waited[0]!.payload.metrics!.every((x) => x.isHistorical)).toBe(true)
    expect(engine.ledger.countsOf(mill.delivery)).toMatchObject({ waiting: 0, missing: 0, unknown: 0, doubled: 0, dropped: 0 })
  })
  it('is well known to be another node: its births have a bdSeq of its own', () => {
    for (const [client, topic] of [
      [KILN, 'kiln'],
      [MILL, 'mill'],
    ] as const)
      for (const m of told(0, undefined, client)) expect(m.topic.split('/')[3]).toBe(topic)
  })
})

describe('the primary host (5.4)', () => {
  it('nothing is published before it is online', () => expect(kinds(between('waiting', 'births'))).toEqual([]))
  it('the connection stays while the host is away', () => {
    expect(waitedMs).toBeGreaterThan(6000)
    expect(connectionsWhileWaiting).toBe(0)
  })
  it('what is no state, or has an older timestamp, says nothing', () => {
    expect(kinds(between('waiting', 'births'))).toEqual([])
    expect(kinds(between('older', 'lost')).filter((k) => k !== 'DDATA Zone 1' && k !== 'NDATA')).toEqual([])
  })
  it('when it goes offline the node dies at once, and its connection with it; then it waits connected', () => {
    const own = wire.packets.slice(marks['host gone'], marks['host back']).filter((p) => p.from === 'client' && isNode(p.connection))
    const death = own.findIndex((p) => p.packet.cmd === 'publish' && p.packet.topic.includes('/NDEATH/'))
    expect(
      own
        .slice(death + 1)
        .map((p) => p.packet.cmd)
        .filter((c) => c !== 'pingreq' && c !== 'puback'),
    ).toEqual(['disconnect', 'connect', 'subscribe'])
  })
  it('when it is back the births come first', () => {
    expect(kinds(between('host back', 'after')).slice(0, 4)).toEqual(['NBIRTH', 'DBIRTH Zone 1', 'DBIRTH Zone 2', 'DBIRTH Zone 3'])
  })
})

describe('births (6.4.19, 6.4.20)', () => {
  const first = () => between('births', 'change')
  it('the node first, then each device, then data', () => {
    expect(kinds(first()).slice(0, 4)).toEqual(['NBIRTH', 'DBIRTH Zone 1', 'DBIRTH Zone 2', 'DBIRTH Zone 3'])
    expect(
      kinds(first())
        .slice(4)
        .every((k) => k.startsWith('DDATA') || k === 'NDATA'),
    ).toBe(true)
  })
  it('on every connection data come after the births', () => {
    for (const c of new Set(told().map((m) => m.connection))) {
      const own = kinds(told().filter((m) => m.connection === c))
      expect(own[0]).toBe('NBIRTH')
      own.forEach((k, i) => {
        if (k.startsWith('DDATA')) expect(own.slice(0, i)).toContain(k.replace('DDATA', 'DBIRTH'))
      })
    }
  })
  it('at QoS 0 and not retained, whatever was chosen', () => {
    for (const m of told()) if (m.type !== 'NDEATH') expect([m.qos, m.retain], m.topic).toEqual([0, false])
  })
  it('the number of the birth is 0, and each message has the next, up to 255 and round', () => {
    let next = -1
    let connection = 0
    for (const m of told()) {
      if (m.type === 'NDEATH') continue
      if (m.type === 'NBIRTH') next = 0
      else next = m.connection === connection ? (next + 1) % 256 : -1
      connection = m.connection
      expect(m.payload.seq ?? 0, m.topic).toBe(next)
    }
  })
  it('every message but the death of the node has a time in UTC', () => {
    for (const m of told()) expect(Math.abs(m.payload.timestamp! - Date.now())).toBeLessThan(180_000)
  })
  it('the node tells bdSeq, Node Control/Rebirth as false without alias, and all that it will ever tell', () => {
    const names = new Set(told().flatMap((m) => (m.type === 'NDATA' ? m.payload.metrics!.map((x) => x.name!) : [])))
    for (const m of told().filter((x) => x.type === 'NBIRTH')) {
      const all = m.payload.metrics!
      expect(all.find((x) => x.name === 'Node Control/Rebirth')).toMatchObject({ datatype: 11, booleanValue: false })
      expect(all.find((x) => x.name === 'Node Control/Rebirth')!.alias).toBeUndefined()
      expect(all.find((x) => x.name === 'bdSeq')).toMatchObject({ datatype: 4 })
      for (const name of names) expect(all.map((x) => x.name)).toContain(name)
    }
  })
  it('a device tells every metric with name, alias, datatype and value', () => {
    for (const m of told().filter((x) => x.type === 'DBIRTH')) {
      expect(m.payload.metrics!.map((x) => x.name)).toEqual([...KEYS])
      for (const x of m.payload.metrics!) {
        expect(x.datatype).toBe(10)
        expect(x.alias).toBeGreaterThan(0)
        expect(x.doubleValue !== undefined || x.isNull).toBe(true)
      }
    }
  })
  it('aliases are unique over the node', () => {
    const all = first().flatMap((m) => (m.type === 'DBIRTH' ? m.payload.metrics!.map((x) => x.alias) : []))
    expect(new Set(all).size).toBe(ZONES * KEYS.length)
    expect(all[0]).toBe(aliasOf(plan.equipment[0]!, plan.equipment[0]!.members[0]!))
  })
})

describe('data (6.4.21, 6.4.22)', () => {
  it('by alias and without name or datatype, and only what changed', () => {
    const [change] = between('change', 'older').filter((m) => m.type === 'DDATA')
    expect(change!.payload.metrics).toEqual([
      { alias: aliasOf(plan.equipment[0]!, plan.equipment[0]!.members[0]!), doubleValue: 451.5, timestamp: expect.any(Number) },
    ])
  })
  it('every metric has its own time', () => {
    for (const m of told())
      if (m.type === 'DDATA') for (const x of m.payload.metrics!) expect(Math.abs(x.timestamp! - Date.now())).toBeLessThan(180_000)
  })
  it('quality is a property of type Int32 with one of the three values', () => {
    const odd = told().flatMap((m) => (m.payload.metrics ?? []).filter((x) => x.properties))
    expect(odd.length).toBeGreaterThan(0)
    for (const x of odd) {
      expect(x.properties!.keys.length).toBe(x.properties!.values.length)
      const quality = x.properties!.values[x.properties!.keys.indexOf('Quality')]!
      expect(quality.type).toBe(3)
      expect([0, 192, 500]).toContain(quality.intValue)
    }
  })
  it('what waited while the host was away is historical, and nothing else is', () => {
    const waited = between('host back', 'after').filter((m) => m.type === 'DDATA')
    expect(waited.length).toBeGreaterThanOrEqual(2)
    for (const m of waited) for (const x of m.payload.metrics!) expect(x.isHistorical).toBe(true)
    for (const m of [...between('change', 'host gone'), ...between('after', 'cut')])
      for (const x of m.payload.metrics ?? []) expect(x.isHistorical ?? false).toBe(false)
  })
  it('the ledger confirms all of it, marked or numbered as it was on the wire', () => {
    const c = engine.ledger.countsOf(plan.delivery)!
    expect({ ...c }).toMatchObject({ altered: 0, foreign: 0, doubled: 0, missing: 0, waiting: 0 })
    expect(c.confirmed + c.unknown).toBe(c.produced)
  })
  it('metrics of the node go out when they change, in NDATA', () => {
    const node = told().filter((m) => m.type === 'NDATA')
    expect(node.length).toBeGreaterThan(0)
    for (const m of node) for (const x of m.payload.metrics!) expect(x.name).toMatch(/^Node Info\//)
  })
})

describe('devices (5.9)', () => {
  it('when all of a device has lost its source it dies, after its last data, with a time and a number and nothing else', () => {
    const own = between('lost', 'rebirth').filter((m) => m.device === 'Zone 2')
    expect(kinds(own)).toEqual(['DDATA Zone 2', 'DDEATH Zone 2'])
    expect(own[1]!.payload).toEqual({ timestamp: expect.any(Number), seq: expect.any(Number) })
  })
  it('a dead device is not born with the others, and has no data', () => {
    expect(kinds(between('rebirth', 'back')).filter((k) => k.endsWith('Zone 2'))).toEqual([])
  })
  it('when it is back it is born before its data', () => {
    expect(kinds(between('back', 'commands')).filter((k) => k.endsWith('Zone 2'))).toEqual(['DBIRTH Zone 2', 'DDATA Zone 2'])
  })
  it('the others do not notice', () => {
    expect(kinds(between('lost', 'rebirth')).filter((k) => k.startsWith('NBIRTH') || k.includes('Zone 1') || k.includes('Zone 3'))).toEqual([])
  })
})

describe('commands (6.4.23, 6.4.24)', () => {
  it('a rebirth sends all births again, with the bdSeq of before', () => {
    const again = between('rebirth', 'back')
    expect(kinds(again).slice(0, 3)).toEqual(['NBIRTH', 'DBIRTH Zone 1', 'DBIRTH Zone 3'])
    expect(bdSeq(again[0]!)).toBe(bdSeq(between('births', 'change')[0]!))
  })
  it('asked for twice in a moment it comes twice, the second a little later', () => {
    expect(kinds(between('rebirth', 'back')).filter((k) => k === 'NBIRTH').length).toBe(2)
  })
  it('a write to the node or to a device is answered with "not yet", in NDATA and in the events', async () => {
    const answers = between('commands', 'host gone').flatMap((m) => (m.type === 'NDATA' ? m.payload.metrics! : []))
    expect(answers.filter((x) => x.name === 'Node Info/Last command').at(-1)!.stringValue).toBe(
      'not yet: Zone 1 was told to write temperature; writing is not built',
    )
    const events = (await listEvents(t.db, 200)).filter((e) => e.code === 'publication.command')
    expect(events.map((e) => e.message)).toEqual(['not yet: the node was told to write Node Control/Reboot; writing is not built'])
  })
})
