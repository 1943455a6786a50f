import mqtt, { type IClientOptions, type MqttClient } from 'mqtt'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { certificates, startBroker, type TestBroker, until } from './support'

let t: TestBroker
const clients: MqttClient[] = []
beforeAll(async () => {
  t = await startBroker()
})
afterAll(async () => {
  for (const c of clients) c.end(true)
  await t.broker.stop()
})

const users = { embrik: 'clay-sender-1', witness: 'clay-witness-2' } as const

function connect(user: keyof typeof users, o: IClientOptions = {}): Promise<MqttClient> {
  return open({ port: t.ports.plain, username: user, password: users[user], ...o })
}

function open(o: IClientOptions): Promise<MqttClient> {
  const client = mqtt.connect({ host: '127.0.0.1', reconnectPeriod: 0, protocolVersion: 5, ...o })
  clients.push(client)
  return new Promise((done, failed) => {
    let why: unknown = new Error('closed')
    client.on('connect', () => done(client))
    client.on('error', (e) => {
      why = e
      failed(e)
    })
    client.on('close', () => failed(why))
  })
}

interface Got {
  topic: string
  text: string
  qos: number
  retain: boolean
  properties: unknown
}
async function listen(client: MqttClient, filter: string, qos: 0 | 1 | 2, properties = {}): Promise<Got[]> {
  const got: Got[] = []
  client.on('message', (topic, payload, p) => got.push({ topic, text: payload.toString(), qos: p.qos, retain: p.retain, properties: p.properties }))
  await client.subscribeAsync(filter, { qos, ...properties })
  return got
}

describe.each([4, 5] as const)('MQTT protocol version %s', (protocolVersion) => {
  it.each([0, 1, 2] as const)('passes messages on in order at QoS %s', async (qos) => {
    const reader = await connect('witness', { protocolVersion })
    const sender = await connect('embrik', { protocolVersion })
    const got = await listen(reader, `varnmoor/v${protocolVersion}q${qos}/#`, qos)
    for (let i = 0; i < 300; i++) sender.publish(`varnmoor/v${protocolVersion}q${qos}/x`, String(i), { qos })
    await until(() => got.length >= 300, 'all 300')
    expect(got.map((g) => Number(g.text))).toEqual(Array.from({ length: 300 }, (_, i) => i))
    expect(new Set(got.map((g) => g.qos))).toEqual(new Set([qos]))
  })

  it('keeps the last retained message for whoever comes later', async () => {
    const sender = await connect('embrik', { protocolVersion })
    const topic = `varnmoor/kept/v${protocolVersion}`
    await sender.publishAsync(topic, 'old', { qos: 1, retain: true })
    await sender.publishAsync(topic, 'new', { qos: 1, retain: true })
    const got = await listen(await connect('witness', { protocolVersion }), topic, 1)
    await until(() => got.length > 0, 'the retained message')
    expect(got).toMatchObject([{ text: 'new', retain: true }])
    await sender.publishAsync(topic, '', { qos: 1, retain: true })
    const none = await listen(await connect('witness', { protocolVersion }), topic, 1)
    await sender.publishAsync(topic, 'live', { qos: 1 })
    await until(() => none.length > 0, 'the live message')
    expect(none.map((g) => g.text)).toEqual(['live'])
  })

  it('keeps what comes while a client with a session is away', async () => {
    const away = {
      clientId: `away-${protocolVersion}`,
      clean: false,
      protocolVersion,
      ...(protocolVersion === 5 && { properties: { sessionExpiryInterval: 60 } }),
    }
    const first = await connect('witness', away)
    await first.subscribeAsync(`varnmoor/away${protocolVersion}`, { qos: 1 })
    await new Promise<void>((done) => first.end(true, () => done()))
    const sender = await connect('embrik')
    for (let i = 0; i < 5; i++) await sender.publishAsync(`varnmoor/away${protocolVersion}`, String(i), { qos: 1 })
    const got: string[] = []
    const back = mqtt.connect({ host: '127.0.0.1', port: t.ports.plain, username: 'witness', password: users.witness, reconnectPeriod: 0, ...away })
    clients.push(back)
    back.on('message', (_t, payload) => got.push(payload.toString()))
    await until(() => got.length >= 5, 'what was kept')
    expect(got).toEqual(['0', '1', '2', '3', '4'])
  })
})

it('passes user properties and content type on', async () => {
  const got = await listen(await connect('witness'), 'varnmoor/props', 1)
  const sender = await connect('embrik')
  await sender.publishAsync('varnmoor/props', 'x', { qos: 1, properties: { contentType: 'application/json', userProperties: { a: '1' } } })
  await until(() => got.length > 0, 'the message')
  expect(got[0]!.properties).toMatchObject({ contentType: 'application/json', userProperties: { a: '1' } })
})

it('deals a shared subscription out, one message to one member', async () => {
  const one = await listen(await connect('witness'), '$share/g/varnmoor/shared', 1)
  const two = await listen(await connect('witness'), '$share/g/varnmoor/shared', 1)
  const sender = await connect('embrik')
  for (let i = 0; i < 20; i++) await sender.publishAsync('varnmoor/shared', String(i), { qos: 1 })
  await until(() => one.length + two.length >= 20, 'all 20')
  expect(one.length + two.length).toBe(20)
  expect(one.length).toBe(10)
})

it('publishes a will when its client is lost, not when it leaves', async () => {
  const got = await listen(await connect('witness'), 'varnmoor/will/+', 1)
  const will = (n: string) => ({ will: { topic: `varnmoor/will/${n}`, payload: Buffer.from('gone'), qos: 1 as const, retain: false } })
  const lost = await connect('embrik', will('lost'))
  const left = await connect('embrik', will('left'))
  await new Promise<void>((done) => left.end(false, () => done()))
  ;(lost.stream as unknown as { destroy(): void }).destroy()
  await until(() => got.length > 0, 'the will')
  expect(got.map((g) => g.topic)).toEqual(['varnmoor/will/lost'])
})

it('ends the older of two connections with one client id', async () => {
  const first = await connect('witness', { clientId: 'twin' })
  let closed = false
  first.on('close', () => {
    closed = true
  })
  await connect('witness', { clientId: 'twin' })
  await until(() => closed, 'the first to be closed')
})

describe('who may come in and what they may do', () => {
  it('a wrong password or none is refused', async () => {
    await expect(connect('embrik', { password: 'x' })).rejects.toMatchObject({ code: 0x86 })
    await expect(open({ port: t.ports.plain })).rejects.toMatchObject({ code: 0x86 })
    await expect(open({ port: t.ports.plain, protocolVersion: 4 })).rejects.toMatchObject({ code: 4 })
  })

  it('the third port lets in whoever has a certificate of the works, and nobody else', async () => {
    const c = await certificates()
    const tls = { protocol: 'mqtts' as const, port: t.ports.mutual, ca: c.ca }
    const got = await listen(await open({ ...tls, cert: c.clients.reader!.certificate, key: c.clients.reader!.key }), 'varnmoor/tls', 1)
    const sender = await open({ ...tls, cert: c.clients.embrik!.certificate, key: c.clients.embrik!.key })
    await sender.publishAsync('varnmoor/tls', 'x', { qos: 1 })
    await until(() => got.length > 0, 'the message')
    await expect(open(tls)).rejects.toMatchObject({ code: 0x87 })
    await expect(open({ ...tls, username: 'embrik', password: users.embrik })).rejects.toMatchObject({ code: 0x87 })
  })

  it('publishing and subscribing need the permission', async () => {
    const sender = await connect('embrik')
    await expect(sender.publishAsync('elsewhere/x', 'x', { qos: 1 })).rejects.toMatchObject({ code: 0x87 })
    await expect(sender.subscribeAsync('varnmoor/#', { qos: 1 })).rejects.toThrow()
    const reader = await connect('witness')
    await expect(reader.publishAsync('varnmoor/x', 'x', { qos: 1 })).rejects.toMatchObject({ code: 0x87 })
  })
})

it('a cut link resets everybody and refuses new ones until it is over', async () => {
  const reader = await connect('witness')
  let closed = false
  reader.on('close', () => {
    closed = true
  })
  t.broker.cut(0.6)
  await until(() => closed, 'the connection to be reset')
  await expect(connect('witness')).rejects.toThrow()
  await until(() => !t.broker.isShut(), 'the link to be back')
  await connect('witness')
})
