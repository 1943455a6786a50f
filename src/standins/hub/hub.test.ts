import { createHmac } from 'node:crypto'
import { createServer } from 'node:net'
import mqtt, { type IClientOptions, type MqttClient } from 'mqtt'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { Stream } from '../stream/stream'
import { HubAuthority } from './authority'
import { Hub } from './hub'
import { Registry } from './registry'

async function freePort(): Promise<number> {
  const server = createServer()
  await new Promise<void>((done) => server.listen(0, '127.0.0.1', done))
  const { port } = server.address() as { port: number }
  await new Promise<void>((done) => server.close(() => done()))
  return port
}

async function start(by: 'token' | 'certificate') {
  const authority = await HubAuthority.make(by)
  const { certificate, key } = await authority.sign('hub', 'server')
  const stream = await Stream.start({ listeners: [{ name: 'plain', ports: [0] }], topics: { events: 2 } })
  const [port, registryPort] = [await freePort(), await freePort()]
  const tls = { certificate, key, ca: authority.root }
  const hub = await Hub.start({ by, host: '127.0.0.1', port, tls, events: { stream, topic: 'events' } })
  const events = { servers: stream.places('plain')[0]!, topic: 'events', user: '', password: '' }
  const registry = await Registry.start({ port: registryPort, hub, authority, events })
  const ask = async (method: string, path: string, body?: unknown) => {
    const a = await fetch(`http://127.0.0.1:${registryPort}/api/${path}`, { method, ...(body !== undefined && { body: JSON.stringify(body) }) })
    return { status: a.status, value: (await a.json()) as never }
  }
  const clients: MqttClient[] = []
  const connect = (o: IClientOptions): Promise<MqttClient> =>
    new Promise((done, failed) => {
      const client = mqtt.connect({ host: '127.0.0.1', port, protocol: 'mqtts', protocolVersion: 5, ca: authority.root, reconnectPeriod: 0, ...o })
      clients.push(client)
      client.once('connect', () => done(client))
      client.once('error', failed)
    })
  const records = () => stream.topics.of('events')!.flatMap((p) => p.records)
  const end = async () => {
    for (const c of clients) c.end(true)
    await registry.stop()
    await hub.stop()
    await stream.stop()
  }
  return { hub, authority, ask, connect, records, end, port }
}
type Started = Awaited<ReturnType<typeof start>>
/** Publishes, and gives the reason code of the answer. */
const say = (c: MqttClient, topic: string, payload: string | Buffer, more: mqtt.IClientPublishOptions = {}) =>
  new Promise<number>((done) => {
    c.publish(topic, payload, { qos: 1, ...more }, (e, p) =>
      done((e as { code?: number } | null)?.code ?? (p as { reasonCode?: number } | undefined)?.reasonCode ?? 0),
    )
  })
const refusal = (e: unknown) => (e as { code?: number }).code

describe('a hub by token', () => {
  let h: Started
  let handOut = ''
  beforeAll(async () => {
    h = await start('token')
    handOut = ((await h.ask('POST', 'units', { name: 'kiln-edge' })).value as { handOut: string }).handOut
  })
  afterAll(() => h.end())
  const key = () => /UnitKey=([^;\s]+)/.exec(handOut)![1]!
  const token = (o: { until?: number; unit?: string; host?: string; key?: string } = {}) => {
    const { until = Math.floor(Date.now() / 1000) + 60, unit = 'kiln-edge', host = '127.0.0.1' } = o
    const seal = createHmac('sha256', Buffer.from(o.key ?? key(), 'base64'))
      .update(`${unit}|${host}|${until}`)
      .digest('base64')
    return new URLSearchParams({ unit, until: String(until), seal }).toString()
  }
  const as = (password: string, clientId = 'kiln-edge') => ({ clientId, username: `${clientId}@127.0.0.1`, password })

  it('hands out where, who, by which key, and whom to trust; a name is given once', async () => {
    expect(handOut).toMatch(/^Hub=127\.0\.0\.1;Port=\d+;Unit=kiln-edge;UnitKey=[A-Za-z0-9+/]{43}=;Events=\S+\n/)
    expect(handOut).toContain('BEGIN CERTIFICATE')
    expect((await h.ask('POST', 'units', { name: 'kiln-edge' })).status).toBe(409)
    expect(JSON.stringify((await h.ask('GET', 'units')).value)).not.toContain(key())
  })

  it('takes messages below the name of the unit, with properties in the topic, and has them as events', async () => {
    const c = await h.connect(as(token()))
    expect(await say(c, 'tarn/kiln-edge/out/firing/zone-1!embrik-id=a.1.1&kind=temp%20C', '{"temp":980}')).toBe(0)
    const [record] = h.records()
    expect(record!.value!.toString()).toBe('{"temp":980}')
    expect(Object.fromEntries(record!.headers.map(([n, v]) => [n, v!.toString()]))).toMatchObject({
      'embrik-id': 'a.1.1',
      kind: 'temp C',
      'hub-unit': 'kiln-edge',
      'hub-path': 'firing/zone-1',
    })
    expect((await h.ask('GET', 'rows')).value).toMatchObject({ rows: [{ path: 'firing/zone-1', fields: { value: { temp: 980 } } }] })
    for (const [topic, more, code] of [
      ['tarn/other/out/x', {}, 0x87],
      ['tarn/kiln-edge/out/x', { retain: true }, 0x9a],
    ] as const) {
      const again = await h.connect(as(token()))
      const answered = await Promise.race([say(again, topic, 'x', more), new Promise<string>((done) => again.once('close', () => done('closed')))])
      expect([code, 'closed']).toContain(answered)
    }
  })

  it('bounds size, rate and day, and says so', async () => {
    await h.ask('PUT', 'units/kiln-edge/limits', { payloadOctets: 100, perDay: 5 })
    const large = await h.connect(as(token()))
    const gone = new Promise<void>((done) => large.once('close', () => done()))
    large.publish('tarn/kiln-edge/out/x', 'y'.repeat(101), { qos: 1 })
    await gone
    const c = await h.connect(as(token()))
    const codes = []
    for (let i = 0; i < 6; i++) codes.push(await say(c, 'tarn/kiln-edge/out/x', '{}'))
    expect(codes.at(-1)).toBe(0x97)
    await h.ask('PUT', 'units/kiln-edge/limits', { perDay: null, perSecond: 2 })
    const quick = await Promise.all(Array.from({ length: 8 }, () => say(c, 'tarn/kiln-edge/out/x', '{}')))
    expect(quick).toContain(0x97)
    await h.ask('PUT', 'units/kiln-edge/limits', { perSecond: null })
    const log = (await h.ask('GET', 'log')).value as { code: string }[]
    expect(new Set(log.map((l) => l.code))).toEqual(new Set(['size', 'quota', 'rate', 'topic', 'retained']))
  })

  it.each([
    ['a token that ended', () => as(token({ until: Math.floor(Date.now() / 1000) - 1 }))],
    ['a token of another unit', () => as(token({ unit: 'other' }))],
    ['a token for another host', () => as(token({ host: 'other' }))],
    ['a token of another key', () => as(token({ key: Buffer.alloc(32).toString('base64') }))],
    ['no token', () => as('clay')],
    ['a unit that nobody registered', () => as(token({ unit: 'ghost' }), 'ghost')],
    ['another user', () => ({ ...as(token()), username: 'kiln-edge' })],
  ])('%s is refused, always with the same answer', async (_, o) => {
    expect(refusal(await h.connect(o()).catch((e: unknown) => e))).toBe(0x86)
  })

  it('a clock that is 7 minutes ahead refuses what is right, and says the same; the log knows better', async () => {
    await h.ask('PUT', 'clock', { skewMs: 420_000 })
    expect(refusal(await h.connect(as(token({ until: Math.floor(Date.now() / 1000) + 300 }))).catch((e: unknown) => e))).toBe(0x86)
    await h.ask('PUT', 'clock', { skewMs: 0 })
    expect(((await h.ask('GET', 'log')).value as { words: string }[])[0]!.words).toMatch(/^ended .*; it is .* here$/)
  })

  it('throws out whose token ends, whose key is exchanged at the next log-in, who is disabled, and the first of two', async () => {
    const closed = (c: MqttClient) => new Promise<void>((done) => c.once('close', () => done()))
    const short = await h.connect(as(token({ until: Math.floor(Date.now() / 1000) + 2 })))
    await closed(short)
    const first = await h.connect(as(token()))
    const gone = closed(first)
    await h.connect(as(token()))
    await gone
    await h.ask('POST', 'units/kiln-edge/rotate')
    await h.ask('POST', 'units/kiln-edge/rotate')
    expect(refusal(await h.connect(as(token())).catch((e: unknown) => e))).toBe(0x86)
    await h.ask('POST', 'units/kiln-edge/disable')
    await expect.poll(async () => (await h.ask('GET', 'units/kiln-edge')).value).toMatchObject({ enabled: false, connected: false })
  })
})

describe('a hub by certificate', () => {
  let h: Started
  beforeAll(async () => {
    h = await start('certificate')
    await h.ask('POST', 'units', { name: 'press-edge' })
  })
  afterAll(() => h.end())
  /** As a kit has it. */
  const registered = async (name = 'press-edge') => {
    const own = await h.authority.sign(name, 'client')
    h.hub.units.get('press-edge')!.certificates.push(own.sha256)
    return { cert: own.certificate, key: own.key, clientId: name }
  }

  it('takes a stream of data under an alias that was declared, with properties beside it, and no other', async () => {
    const c = await h.connect(await registered())
    const id = { properties: { userProperties: { 'embrik-id': 'a.2.1' } } }
    expect(await say(c, 'fell/u/press-edge/e/vacuum', '{"mbar":40}', id)).toBe(0x83)
    expect(await say(c, 'fell/u/press-edge/e', '{}', id)).toBe(0x83)
    await h.ask('POST', 'units/press-edge/aliases', { alias: 'vacuum' })
    expect(await say(c, 'fell/u/press-edge/e/vacuum', '{"mbar":40}', id)).toBe(0)
    expect(Object.fromEntries(h.records()[0]!.headers.map(([n, v]) => [n, v!.toString()]))).toMatchObject({
      'embrik-id': 'a.2.1',
      'hub-path': 'vacuum',
    })
    expect(((await h.ask('GET', 'log')).value as { code: string; words: string }[]).map((l) => l.words)).toEqual([
      'a stream of data without an alias',
      'the alias vacuum was not declared',
    ])
  })

  it.each([
    ['a certificate that was not registered', async () => ({ ...(await h.authority.sign('press-edge', 'client')), clientId: 'press-edge' })],
    ['the certificate of another unit', async () => ({ ...(await h.authority.sign('other', 'client')), clientId: 'press-edge' })],
    ['another client id', async () => ({ ...(await registered()), clientId: 'someone' })],
    ['no certificate', async () => ({ clientId: 'press-edge' })],
  ])('%s is refused', async (_, o) => {
    const { certificate, ...made } = (await o()) as { certificate?: string; cert?: string; key?: string; clientId: string }
    const client = { ...made, ...(certificate && { cert: certificate }) }
    expect(refusal(await h.connect(client).catch((e: unknown) => e))).toBe(0x87)
  })

  it('routes what its rule asks for, field by field', async () => {
    await h.ask('PUT', 'rule', { path: 'vac', atLeast: { field: 'mbar', value: 50 }, fields: ['mbar', 'at.hour'] })
    const c = await h.connect(await registered())
    for (const mbar of [49, 50]) await say(c, 'fell/u/press-edge/e/vacuum', JSON.stringify({ mbar, at: { hour: 7 }, more: 1 }))
    await say(c, 'fell/u/press-edge/e/vacuum', Buffer.from([1, 2, 3]))
    expect((await h.ask('GET', 'rows')).value).toMatchObject({ rows: [{ fields: { mbar: 50, 'at.hour': 7 } }], unread: 1 })
  })

  it('hands things down to who listens', async () => {
    const c = await h.connect(await registered())
    const heard = new Promise<string>((done) => c.once('message', (topic, payload) => done(`${topic} ${payload}`)))
    await c.subscribeAsync('fell/u/press-edge/in/#', { qos: 1 })
    expect((await h.ask('POST', 'units/press-edge/down', { path: 'desired', value: { rate: 2 } })).value).toEqual({ connected: true })
    expect(await heard).toBe('fell/u/press-edge/in/desired {"rate":2}')
  })
})
