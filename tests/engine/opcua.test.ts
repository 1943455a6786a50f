import { X509Certificate } from 'node:crypto'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import type { CheckStep } from '~/contract/failure'
import type { Batch } from '~/engine/live/table'
import type { SourceTarget } from '~/engine/sources/driver'
import { makeApplicationCertificate } from '~/engine/sources/opcua/application'
import { thumbprintOf } from '~/engine/sources/opcua/client'
import { opcuaDriver } from '~/engine/sources/opcua/driver'
import { Gate } from '~/standins/gate'
import { KilnServer } from '~/standins/kiln/server'
import { kilnLogin } from '~/standins/plant'
import { opened } from './source-support'
import { certificates, folder, freePort, until } from './support'

let kiln: KilnServer
let gate: Gate
let port: number
let application: { certificate: string; key: string }
let thumbprint = ''
let sha256 = ''
let person: { certificate: string; key: string }
const ctx = () => ({ application, workFolder: work })
const work = folder('opcua')

beforeAll(async () => {
  port = await freePort()
  const inner = await freePort()
  person = await makeApplicationCertificate('0person0')
  const own = (await certificates()).kiln
  thumbprint = thumbprintOf(own.certificate)
  sha256 = new X509Certificate(own.certificate).fingerprint256.replaceAll(':', '').toLowerCase()
  kiln = await KilnServer.start({
    port: inner,
    publicPort: port,
    folder: folder('kiln'),
    login: kilnLogin,
    trusted: [],
    own,
    users: [new X509Certificate(person.certificate).raw],
    limits: { monitoredItemsPerCall: 20, nodesPerRead: 90, nodesPerBrowse: 50, monitoredItems: 150 },
  })
  gate = await Gate.open(port, inner)
  application = await makeApplicationCertificate('00c0ffee')
})
afterAll(async () => {
  await gate.close()
  await kiln.stop()
})

const target = (settings: Partial<SourceTarget<'opcua'>['settings']> = {}, password = kilnLogin.password): SourceTarget<'opcua'> => ({
  name: 'kiln',
  kind: 'opcua',
  authority: null,
  credential: null,
  proxy: null,
  password,
  settings: {
    endpoint: `opc.tcp://127.0.0.1:${port}/kiln`,
    mode: 'SignAndEncrypt',
    policy: 'Basic256Sha256',
    login: 'user',
    user: kilnLogin.user,
    credentialId: null,
    samplingMs: 0,
    queue: 10,
    deadbands: 'here',
    serverThumbprint: sha256,
    rateMs: 200,
    retryMs: 500,
    ...settings,
  },
})

const byCertificate = (c: { certificate: string; key: string }) => ({
  ...target({ login: 'certificate', credentialId: '00000000-0000-7000-8000-000000000000' }),
  credential: { kind: 'certificate' as const, certificate: c.certificate, user: null, secret: c.key },
})

async function check(t: SourceTarget<'opcua'>): Promise<Record<string, CheckStep>> {
  const steps: Record<string, CheckStep> = {}
  for await (const s of opcuaDriver.check(t, ctx())) steps[s.key] = s
  return steps
}
const states = (steps: Record<string, CheckStep>) => Object.fromEntries(Object.entries(steps).map(([k, s]) => [k, s.state]))

describe('checking a source', () => {
  it('meets the refusal of a certificate that the server does not know, and says whose it is', async () => {
    const steps = await check(target())
    expect(states(steps)).toEqual({
      name: 'passed',
      port: 'passed',
      channel: 'passed',
      server: 'passed',
      trusted: 'failed',
      session: 'skipped',
      read: 'skipped',
    })
    expect(steps.trusted!.failure).toMatchObject({ code: 'opcua.not-trusted', hint: expect.stringContaining(thumbprintOf(application.certificate)) })
  })

  it('passes every step, each with its time, once somebody there trusts it', async () => {
    expect(await kiln.trust(thumbprintOf(application.certificate), true)).toBe(true)
    const steps = await check(target())
    expect(Object.values(states(steps))).toEqual(Array(7).fill('passed'))
    for (const s of Object.values(steps)) expect(s.ms).toBeGreaterThan(0)
    expect(steps.channel!.facts).toMatchObject({
      serverThumbprint: thumbprint,
      serverSha256: sha256,
      serverSubject: expect.stringContaining('Kiln controller'),
      serverCertificate: expect.stringContaining('BEGIN CERTIFICATE'),
    })
    expect(steps.server!.detail).toBe(`trusted here, ${sha256}`)
    // One that was trusted when SHA-1 was what servers were known by stays so, and is told.
    const old = await check(target({ serverThumbprint: thumbprint.toUpperCase() }))
    expect(old.server).toMatchObject({ state: 'passed', detail: expect.stringContaining('trust it once more to go by SHA-256') })
  })

  it.each([
    ['a wrong password', () => target({}, 'x'), 'session', 'opcua.log-in'],
    ['a log-in as nobody', () => target({ login: 'anonymous' }), 'session', 'opcua.log-in'],
    ['a policy that is not offered', () => target({ policy: 'Aes256_Sha256_RsaPss' }), 'channel', 'opcua.endpoint'],
    ['another server than the one kept', () => target({ serverThumbprint: 'a'.repeat(64) }), 'server', 'opcua.server-changed'],
    ['another server than the one kept by SHA-1', () => target({ serverThumbprint: 'a'.repeat(40) }), 'server', 'opcua.server-changed'],
    [
      'one of the same SHA-1 when another SHA-256 is kept',
      () => target({ serverThumbprint: `${thumbprint}${'0'.repeat(24)}` }),
      'server',
      'opcua.server-changed',
    ],
    ['a server that nobody has trusted', () => target({ serverThumbprint: '' }), 'server', 'opcua.server-unknown'],
    ['a server that was refused', () => target({ refusedThumbprint: sha256 }), 'server', 'opcua.server-refused'],
    ['a server that was refused by SHA-1', () => target({ refusedThumbprint: thumbprint }), 'server', 'opcua.server-refused'],
    ['a log-in by a certificate that it does not know', () => byCertificate(application), 'session', 'opcua.log-in'],
    ['a name that does not exist', () => target({ endpoint: 'opc.tcp://kiln.invalid:4840/x' }), 'name', 'name.unknown'],
    ['a port where nothing listens', () => target({ endpoint: 'opc.tcp://127.0.0.1:1/x' }), 'port', 'port.refused'],
  ] as const)('finds %s at the right step', async (_, make, step, code) => {
    const steps = await check(make())
    expect(steps[step]!.failure?.code).toBe(code)
    expect(steps[step]!.failure?.hint).not.toBe('')
    const after = Object.values(steps).slice(Object.keys(steps).indexOf(step) + 1)
    expect(after.every((s) => s.state === 'skipped')).toBe(true)
  })

  it('works without security too, and says what that means', async () => {
    const steps = await check(target({ mode: 'None', policy: 'None' }))
    expect(Object.values(states(steps))).toEqual(Array(7).fill('passed'))
    expect(steps.channel!.detail).toContain('without security')
  })
})

describe('browsing', () => {
  it('finds the kiln, its zones, and a whole branch with types, units and paths', async () => {
    const top = await opcuaDriver.browse(target(), ctx(), '', false)
    const root = top.find((n) => n.name === 'Tunnel Kiln 1')!
    expect(root).toMatchObject({ kind: 'folder', address: 'ns=2;s=kiln' })
    const below = await opcuaDriver.browse(target(), ctx(), root.address, false)
    expect(below.filter((n) => n.name.startsWith('Zone')).length).toBe(12)
    const all = await opcuaDriver.browse(target(), ctx(), root.address, true)
    // Zones, fans, pusher and the kiln itself, with the parts of an array of 12 and of a structure of 2.
    expect(all.length).toBe(12 * 30 + 4 * 7 + 7 + 5 + 12 + 2)
    expect(all.find((n) => n.path === 'temperature profile/3')).toMatchObject({ address: 'ns=2;s=kiln.profile#/3', dataType: 'number' })
    expect(all.find((n) => n.path === 'temperature span/high')).toMatchObject({ address: 'ns=2;s=kiln.span#/high', dataType: 'number' })
    expect((await opcuaDriver.browse(target(), ctx(), 'ns=2;s=kiln.profile', false)).length).toBe(12)
    expect(all.find((n) => n.path === 'Zone 4/temperature')).toMatchObject({ dataType: 'number', unit: '°C', writable: false })
    expect(all.find((n) => n.path === 'Zone 4/setpoint')).toMatchObject({ writable: true })
    expect(all.find((n) => n.path === 'Zone 4/burner')).toMatchObject({ dataType: 'boolean' })
  })
})

describe('what a server offers', () => {
  it('is shown with modes, policies and log-ins before anything is chosen; weak ones are marked and come last', async () => {
    const offers = await opcuaDriver.endpoints!(`opc.tcp://127.0.0.1:${port}/kiln`, ctx())
    expect(offers[0]).toMatchObject({ mode: 'SignAndEncrypt', policy: 'Basic256Sha256', weak: false, known: true, logins: ['user', 'certificate'] })
    expect(offers[0]!.certificate).toMatchObject({ thumbprint, subject: expect.stringContaining('CN=Kiln controller') })
    expect(offers.at(-1)).toMatchObject({ mode: 'None', policy: 'None', weak: true })
    await expect(opcuaDriver.endpoints!('opc.tcp://127.0.0.1:1/x', ctx())).rejects.toThrow('Nothing listens on that port')
  })
})

it('logs in by a certificate that the server knows', async () => {
  const steps = await check(byCertificate(person))
  expect(Object.values(states(steps))).toEqual(Array(7).fill('passed'))
  expect(steps.session!.detail).toBe('logged in by certificate')
})

describe('a running connection', () => {
  const tag = (handle: number, node: string, more: object = {}) => ({ handle, address: `ns=2;s=kiln.${node}`, dataType: 'number' as const, ...more })

  it('reads elements of arrays and fields of structures, and whole ones as text', async () => {
    const o = await opened(opcuaDriver, target(), ctx())
    await o.connection.setTags([
      tag(1, 'profile#/3'),
      tag(2, 'span#/low'),
      { ...tag(3, 'span'), dataType: 'text' },
      { ...tag(4, 'profile'), dataType: 'text' },
      tag(5, 'profile#/99'),
      tag(6, 'firingCurve'),
    ])
    await until(() => o.values.size === 6, 'all values')
    expect(o.values.get(1)!.value).toBeGreaterThan(600)
    expect(o.values.get(2)!.value).toBeGreaterThan(100)
    expect(JSON.parse(String(o.values.get(3)!.value))).toMatchObject({ low: expect.any(Number), high: expect.any(Number) })
    expect(JSON.parse(String(o.values.get(4)!.value)).length).toBe(12)
    expect(o.values.get(5)!.status).toBe(0x809b0000)
    expect(o.values.get(6)!.status).toBe(0x80740000)
    expect(o.notes.get(6)!.text).toBe('FC-1050-B is no number')
    expect(o.trips.length).toBeGreaterThan(0)
    await o.connection.close()
  })

  it('keeps to the limits of the server: what is too much says so, the rest is read', async () => {
    const o = await opened(opcuaDriver, target(), ctx())
    const many = Array.from({ length: 12 }, (_, z) =>
      [
        'temperature',
        'setpoint',
        'gasFlow',
        'lowLimit',
        'deviation',
        'roofTemperature',
        'floorTemperature',
        'airFlow',
        'airRatio',
        'gasValve',
        'airDamper',
        'gasTotal',
        'heatOutput',
        'flameSignal',
      ].map((n, i) => tag(z * 14 + i + 1, `zone${z + 1}.${n}`)),
    ).flat()
    await o.connection.setTags(many)
    await until(() => o.values.size === many.length, 'every tag has an answer')
    const refused = [...o.values.values()].filter((v) => v.status === 0x80040000).length
    expect(refused).toBe(168 - 150)
    expect([...o.values.values()].filter((v) => v.status === 0).length).toBeGreaterThanOrEqual(147)
    expect([...o.notes.values()].some((n) => n.text.includes('at most 150'))).toBe(true)
    await o.connection.close()
  })

  it('lets the server filter by deadbands when asked to, and keeps those itself that it cannot', async () => {
    const o = await opened(opcuaDriver, target({ deadbands: 'server' }), ctx())
    await o.connection.setTags([
      tag(1, 'zone1.temperature', { width: 1e6 }),
      tag(2, 'zone1.temperature'),
      { ...tag(3, 'zone1.burner', { width: 5 }), dataType: 'boolean' },
    ])
    await until(() => (o.counts.get(2) ?? 0) >= 5 && o.values.get(3)?.status === 0, 'unfiltered changes')
    expect(o.counts.get(1)).toBe(1)
    await o.connection.close()
  })

  it('samples each tag at its own rate', async () => {
    const o = await opened(opcuaDriver, target(), ctx())
    await o.connection.setTags([tag(1, 'zone1.temperature'), tag(2, 'zone2.temperature', { sampleMs: 3000 })])
    await until(() => (o.counts.get(1) ?? 0) >= 6, 'some changes')
    expect(o.counts.get(2)!).toBeLessThanOrEqual(3)
    await o.connection.close()
  })

  it('writes, reads back, and is refused in words', async () => {
    const o = await opened(opcuaDriver, target(), ctx())
    const write = (node: string, value: number | string) => o.connection.write!(tag(1, node), value)
    expect(await write('zone4.setpoint', 601.5)).toBe(601.5)
    expect(await write('zone4.setpoint', 688)).toBe(688)
    await expect(write('oxygen', 5)).rejects.toThrow('BadNotWritable')
    await expect(write('zone4.setpoint', 'hot')).rejects.toThrow('does not fit Double')
    await expect(write('profile#/1', 1)).rejects.toThrow('One part of an array')
    await o.connection.close()
  })

  it('reads history, raw and by aggregate', async () => {
    const before = Date.now() - 60_000
    const raw = await until(async () => {
      const found = await opcuaDriver.history!(target(), ctx(), 'ns=2;s=kiln.oxygen', before, Date.now(), { limit: 100 })
      return found.length > 5 ? found : null
    }, 'some history')
    for (let i = 1; i < raw.length; i++) expect(raw[i]!.at).toBeGreaterThan(raw[i - 1]!.at)
    const from = Math.floor(raw[0]!.at / 1000) * 1000
    const to = from + 4000
    const average = await opcuaDriver.history!(target(), ctx(), 'ns=2;s=kiln.oxygen', from, to, { aggregate: 'Average', everyMs: 2000 })
    expect(average.length).toBe(2)
    expect(average[1]!.value).toBeGreaterThan(4)
    await expect(opcuaDriver.history!(target(), ctx(), 'ns=2;s=kiln.firingCurve', from, to, { limit: 10 })).rejects.toThrow('no history')
  })
})

it('a server that stops in the middle of a browse is told in words, and the engine goes on', async () => {
  const own = await freePort()
  const inner = await freePort()
  const other = await KilnServer.start({
    port: inner,
    publicPort: own,
    folder: folder('kiln'),
    login: kilnLogin,
    trusted: [],
    limits: { nodesPerBrowse: 1 },
  })
  const door = await Gate.open(own, inner)
  door.slowMs = 20
  const slow = target({ endpoint: `opc.tcp://127.0.0.1:${own}/kiln`, mode: 'None', policy: 'None' })
  const browsing = opcuaDriver.browse(slow, ctx(), 'ns=2;s=kiln', true).then(
    () => null,
    (e: Error) => e.message,
  )
  await new Promise((done) => setTimeout(done, 1500))
  door.cut(5)
  expect(await browsing).toBe('The server hangs up at once')
  await door.close()
  await other.stop()
})

it('delivers values with device times, says which nodes are not there, follows changes of the tags, and tells when the link is lost', async () => {
  const last = new Map<number, [unknown, number, number]>()
  let down: string | null = null
  const connection = await opcuaDriver.open(target(), ctx(), {
    mark: (handles, status) => {
      for (const h of handles) last.set(h, [null, status, 0])
    },
    roundTrip: () => undefined,
    down: (f) => {
      down = f.message
    },
    values: (b: Batch) => {
      for (const [i, h] of b.handles.entries()) last.set(h, [b.values[i], b.statuses[i]!, b.times[i]!])
    },
  })
  const tag = (handle: number, node: string) => ({ handle, address: `ns=2;s=kiln.${node}`, dataType: 'number' as const })
  await connection.setTags([tag(1, 'zone1.temperature'), tag(2, 'zone1.nothing')])
  await until(() => last.has(1) && last.has(2), 'first values')
  const [value, status, time] = last.get(1)!
  expect(value).toBeGreaterThan(100)
  expect(status).toBe(0)
  expect(Math.abs(Date.now() - time)).toBeLessThan(5000)
  expect(last.get(2)![1] >>> 30).toBe(2)
  await connection.setTags([tag(1, 'zone1.temperature'), tag(3, 'oxygen')])
  await until(() => last.has(3), 'the new tag')
  last.delete(1)
  await until(() => last.has(1), 'the old tag still')
  gate.cut(0.5)
  await until(() => down !== null, 'the loss to be told')
  await connection.close()
  await until(() => !gate.isShut(), 'the link to be back')
})
