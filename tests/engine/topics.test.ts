import mqtt, { type MqttClient } from 'mqtt'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { freshReach } from '~/contract/broker-reach'
import type { SettingsOf } from '~/contract/source'
import type { Heard, HeardTopic } from '~/contract/sources/mqtt'
import type { SourceTarget } from '~/engine/sources/driver'
import { mqttSourceDriver } from '~/engine/sources/mqtt/driver'
import { Speakers } from '~/standins/cells/speakers'
import { deviceLogins } from '~/standins/plant'
import { checked, opened, states, targetOf } from './source-support'
import { certificates, startBroker, type TestBroker, until } from './support'

let b: TestBroker
let speakers: Speakers
let device: MqttClient
let packer: MqttClient

beforeAll(async () => {
  b = await startBroker()
  speakers = Speakers.start(b.ports.plain, deviceLogins)
  const client = (username: 'probes' | 'packing') =>
    mqtt.connectAsync({
      host: '127.0.0.1',
      port: b.ports.plain,
      protocolVersion: 5,
      clientId: `test-${username}`,
      username,
      password: deviceLogins[username],
    })
  device = await client('probes')
  packer = await client('packing')
})
afterAll(async () => {
  await device.endAsync(true)
  await packer.endAsync(true)
  await speakers.stop()
  await b.broker.stop()
})

const login = (user: string, password: string) => ({ kind: 'password' as const, certificate: null, user, secret: password })
const target = (settings: Partial<SettingsOf<'mqtt'>> = {}, more: Partial<SourceTarget<'mqtt'>> = {}) =>
  targetOf(
    'mqtt',
    {
      host: '127.0.0.1',
      port: b.ports.plain,
      protocol: '5',
      tls: false,
      authorityId: null,
      clientId: `collector-${Math.random()}`,
      credentialId: null,
      filters: 'probes/# cells/# spBv1.0/#',
      timeField: 'at',
      qualityField: '/quality',
      staleS: 0,
      keepAliveS: 30,
      retryMs: 500,
      ...freshReach,
      ...settings,
    },
    { credential: login('collector', 'clay-collector-5'), ...more },
  )

describe('checking', () => {
  it.each(['5', '3.1.1'] as const)('passes over MQTT %s', async (protocol) => {
    expect(states(await checked(mqttSourceDriver, target({ protocol })))).toEqual({
      name: 'passed',
      port: 'passed',
      tls: 'passed',
      login: 'passed',
      topics: 'passed',
    })
  })

  it('passes over TLS with a client certificate', async () => {
    const c = await certificates()
    const reader = c.clients.reader!
    const steps = await checked(
      mqttSourceDriver,
      target(
        { port: b.ports.mutual, tls: true, filters: 'varnmoor/#' },
        {
          authority: { kind: 'authority', certificate: c.ca, user: null, secret: null },
          credential: { kind: 'certificate', certificate: reader.certificate, user: null, secret: reader.key },
        },
      ),
    )
    expect(Object.values(states(steps))).toEqual(Array(5).fill('passed'))
  })

  it.each([
    ['a wrong port', () => target({ port: 1 }), 'port', 'port.refused'],
    ['a wrong password', () => target({}, { credential: login('collector', 'x') }), 'login', 'mqtt.connack-134'],
    ['topics that it may not read', () => target({ filters: 'cells/# secret/#' }), 'topics', 'mqtt.subscribe-135'],
    ['the same over 3.1.1', () => target({ filters: 'secret/#', protocol: '3.1.1' }), 'topics', 'mqtt.subscribe-128'],
  ] as const)('finds %s', async (_, make, step, code) => {
    const failure = (await checked(mqttSourceDriver, make()))[step]!.failure!
    expect(failure).toMatchObject({ code, where: 'source' })
    expect(failure.hint).not.toBe('')
    if (step === 'topics') expect(failure.message).toContain('secret/#')
  })
})

it('listening shows the topics with samples, rates and formats', async () => {
  const topics = new Map<string, HeardTopic>()
  let last: Heard | null = null
  const stop = new AbortController()
  for await (const heard of mqttSourceDriver.listen!(target(), { filters: '', seconds: 30 }, stop.signal)) {
    for (const t of heard.topics) topics.set(t.topic, t)
    last = heard
    if (
      topics.has('probes/clay-prep/1') &&
      (topics.get('cells/packing/stacker 1/rate')?.count ?? 0) > 2 &&
      topics.has('spBv1.0/packing/DDATA/palletiser 1/robot')
    )
      stop.abort()
  }
  expect(last!.messages).toBeGreaterThan(5)
  expect(topics.get('cells/packing/stacker 1/rate')).toMatchObject({
    format: 'number',
    leaves: [{ address: 'cells/packing/stacker 1/rate', dataType: 'number' }],
  })
  expect(topics.get('cells/packing/stacker 1/rate')!.rate).toBeGreaterThan(0.5)
  const probe = topics.get('probes/clay-prep/1')!
  expect(probe.format).toBe('json')
  expect(probe.leaves.map((l) => l.address)).toContain('probes/clay-prep/1#/clay/temperature')
  expect(probe.leaves.find((l) => l.name === 'at')!.dataType).toBe('time')
  expect(topics.get('spBv1.0/packing/DDATA/palletiser 1/robot')!.format).toBe('sparkplug')
})

describe('tags of topics', () => {
  const tag = (handle: number, address: string, dataType: 'number' | 'text' | 'boolean' | 'integer' = 'number') => ({ handle, address, dataType })

  it('take bare values, leaves of JSON with their time and quality, and Sparkplug metrics by name and alias', async () => {
    const o = await opened(mqttSourceDriver, target())
    const robot = 'spBv1.0/packing/palletiser 1/robot'
    await o.connection.setTags([
      tag(1, 'cells/packing/stacker 1/packs'),
      tag(2, 'probes/clay-prep/1#/moisture'),
      tag(3, `${robot}#pallets`, 'integer'),
      tag(4, `${robot}#head/height`),
      tag(5, `${robot}#offset`, 'integer'),
      tag(6, `${robot}#pattern`, 'text'),
      tag(7, 'elsewhere/x'),
    ])
    // The pattern comes in births alone: Embrik came in the middle and asked for one.
    await until(() => [1, 2, 3, 4, 5, 6, 7].every((h) => o.values.has(h)), 'all values')
    for (const h of [1, 2, 3, 4, 5, 6]) expect(o.values.get(h)!.status).toBe(0)
    expect(o.values.get(1)!.value).toBeGreaterThan(18_000)
    expect(o.values.get(5)!.value).toBeLessThanOrEqual(0)
    expect(o.values.get(6)!.value).toBe('VC-5x8')
    expect(Math.abs(Date.now() - o.values.get(2)!.time)).toBeLessThan(10_000)
    expect(o.notes.get(7)!.text).toContain('does not listen on elsewhere/x')
    await o.connection.close()
  })

  it('become bad with reason and bytes when the payload cannot be read, and good again', async () => {
    const o = await opened(mqttSourceDriver, target())
    await o.connection.setTags([tag(1, 'cells/test/rate'), tag(2, 'cells/test/json#/a/b'), tag(3, 'spBv1.0/packing/n#m')])
    const say = async (topic: string, payload: string | Buffer) => packer.publishAsync(topic, payload, { qos: 1 })
    await say('cells/test/rate', '21.5')
    await until(() => o.values.get(1)?.value === 21.5, 'a number')
    await say('cells/test/rate', 'JAM')
    await until(() => o.values.get(1)?.status === 0x80740000, 'a type mismatch')
    expect(o.notes.get(1)).toMatchObject({ text: '"JAM" is no number', bytes: expect.anything() })
    expect(Buffer.from(o.notes.get(1)!.bytes!).toString()).toBe('JAM')
    for (const [payload, status, words] of [
      ['{"a":{"b":7}}', 0, ''],
      ['{"a":{"b":7', 0x80070000, 'not JSON'],
      [Buffer.from([0xff, 0xfe, 0x00, 0x80]), 0x80070000, 'not UTF-8'],
      [`${'['.repeat(5000)}1${']'.repeat(5000)}`, 0x80070000, 'deeper than 100'],
      ['{"a":1}', 0x809b0000, 'nothing at /a/b'],
      ['', 0x80070000, 'not JSON'],
      ['{"a":{"b":{"c":1}}}', 0x80740000, 'is no number'],
      ['{"a":{"b":"12.5"}}', 0, ''],
      ['{"a":{"b":1},"quality":"bad: fouled"}', 0x80000000, 'bad: fouled'],
    ] as const) {
      o.values.delete(2)
      await say('cells/test/json', payload as string)
      await until(() => o.values.has(2), `${String(payload).slice(0, 20)} is read`)
      expect(o.values.get(2)!.status).toBe(status)
      if (words) expect(o.notes.get(2)!.text).toContain(words)
    }
    await say('spBv1.0/packing/NDATA/n', Buffer.from('no protobuf'))
    await until(() => o.values.get(3)?.status === 0x80070000, 'Sparkplug that is none')
    expect(o.downs).toEqual([])
    await o.connection.close()
  })

  it('random bytes on a topic never end the connection', async () => {
    const o = await opened(mqttSourceDriver, target())
    await o.connection.setTags([tag(1, 'cells/random'), tag(2, 'cells/random#/x'), tag(3, 'spBv1.0/packing/r#x')])
    let seed = 7
    const next = () => (seed = (Math.imul(seed, 1_103_515_245) + 12_345) >>> 0) >>> 16
    for (let i = 0; i < 400; i++) {
      const payload = Buffer.from(Array.from({ length: next() % 60 }, () => next() & 0xff))
      await packer.publishAsync(
        i % 3 === 0 ? `spBv1.0/packing/${['NBIRTH', 'NDATA', 'NDEATH'][i % 9 === 0 ? 2 : i % 2]}/r` : 'cells/random',
        payload,
        { qos: 0 },
      )
    }
    await packer.publishAsync('cells/random', '{"x":5}', { qos: 1 })
    await until(() => o.values.get(2)?.value === 5, 'a value after all that')
    expect(o.downs).toEqual([])
    await o.connection.close()
  })

  it('go stale when nothing comes for the set time, keep their value, and come back', async () => {
    const o = await opened(mqttSourceDriver, target({ staleS: 1 }))
    await o.connection.setTags([tag(1, 'probes/lone#/v')])
    await device.publishAsync('probes/lone', '{"v":3}', { qos: 1 })
    await until(() => o.values.get(1)?.value === 3, 'a value')
    await until(() => o.values.get(1)?.status === 0x40900000, 'stale')
    expect(o.values.get(1)!.value).toBe(3)
    expect(o.notes.get(1)!.text).toBe('No message for 1 s')
    await device.publishAsync('probes/lone', '{"v":4}', { qos: 1 })
    await until(() => o.values.get(1)?.status === 0 && o.values.get(1)?.value === 4, 'good again')
    await o.connection.close()
  })

  it('a cut broker is told once; a refused filter refuses the connection', async () => {
    const o = await opened(mqttSourceDriver, target())
    b.broker.cut(0.2)
    await until(() => o.downs.length === 1, 'the loss')
    await o.connection.close()
    await until(() => !b.broker.isShut(), 'the broker is back')
    await expect(opened(mqttSourceDriver, target({ filters: 'secret/#' }))).rejects.toThrow('refuses to let us listen on secret/#')
  })
})
