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
import { folder, freePort, until } from './support'

let kiln: KilnServer
let gate: Gate
let port: number
let application: { certificate: string; key: string }
const ctx = () => ({ application, workFolder: work })
const work = folder('opcua')

beforeAll(async () => {
  port = await freePort()
  const inner = await freePort()
  kiln = await KilnServer.start({ port: inner, publicPort: port, folder: folder('kiln'), login: kilnLogin, trusted: [] })
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
  password,
  settings: {
    endpoint: `opc.tcp://127.0.0.1:${port}/kiln`,
    mode: 'SignAndEncrypt',
    policy: 'Basic256Sha256',
    login: 'user',
    user: kilnLogin.user,
    rateMs: 200,
    retryMs: 500,
    ...settings,
  },
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
    expect(states(steps)).toEqual({ name: 'passed', port: 'passed', channel: 'passed', trusted: 'failed', session: 'skipped', read: 'skipped' })
    expect(steps.trusted!.failure).toMatchObject({ code: 'opcua.not-trusted', hint: expect.stringContaining(thumbprintOf(application.certificate)) })
  })

  it('passes every step, each with its time, once somebody there trusts it', async () => {
    expect(await kiln.trust(thumbprintOf(application.certificate), true)).toBe(true)
    const steps = await check(target())
    expect(Object.values(states(steps))).toEqual(Array(6).fill('passed'))
    for (const s of Object.values(steps)) expect(s.ms).toBeGreaterThan(0)
    expect(steps.channel!.facts?.serverThumbprint).toMatch(/^[0-9a-f]{40}$/)
  })

  it.each([
    ['a wrong password', () => target({}, 'x'), 'session', 'opcua.log-in'],
    ['a log-in as nobody', () => target({ login: 'anonymous' }), 'session', 'opcua.log-in'],
    ['a policy that is not offered', () => target({ policy: 'Aes256_Sha256_RsaPss' }), 'channel', 'opcua.endpoint'],
    ['another server than the one kept', () => target({ serverThumbprint: 'a'.repeat(40) }), 'channel', 'opcua.server-changed'],
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
    expect(Object.values(states(steps))).toEqual(Array(6).fill('passed'))
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
    expect(all.length).toBe(12 * 5 + 5)
    expect(all.find((n) => n.path === 'Zone 4/temperature')).toMatchObject({ dataType: 'number', unit: '°C', writable: false })
    expect(all.find((n) => n.path === 'Zone 4/setpoint')).toMatchObject({ writable: true })
    expect(all.find((n) => n.path === 'Zone 4/burner')).toMatchObject({ dataType: 'boolean' })
  })
})

it('delivers values with device times, says which nodes are not there, follows changes of the tags, and tells when the link is lost', async () => {
  const last = new Map<number, [unknown, number, number]>()
  let down: string | null = null
  const connection = await opcuaDriver.open(target(), ctx(), {
    mark: () => undefined,
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
