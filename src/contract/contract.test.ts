import { describe, expect, it } from 'vitest'
import { MqttSettings } from './destinations/mqtt'
import { invalid } from './failure-form'
import { Id, newId } from './id'
import { allows, roles } from './role'
import { routes } from './routes'
import { SourceDraft } from './source'
import { OpcUaSettings } from './sources/opcua'

describe('ids', () => {
  it('are UUIDv7, unique, and sort in the order they were made, even when the clock stands or goes back', () => {
    const ids = [...Array.from({ length: 5000 }, () => newId(1_700_000_000_000)), newId(1_600_000_000_000), newId(1_700_000_000_002)]
    expect(new Set(ids).size).toBe(ids.length)
    expect([...ids].sort()).toEqual(ids)
    for (const id of ids.slice(-3)) expect(Id.safeParse(id).success).toBe(true)
    expect(ids[0]![14]).toBe('7')
  })
})

describe('settings', () => {
  const opcua = {
    endpoint: 'opc.tcp://kiln:4840/x',
    mode: 'SignAndEncrypt',
    policy: 'Basic256Sha256',
    login: 'user',
    user: 'u',
    rateMs: 500,
    retryMs: 1000,
  }
  it('take a whole one', () => expect(OpcUaSettings.safeParse(opcua).success).toBe(true))

  it.each([
    [{ endpoint: 'http://kiln' }, 'endpoint'],
    [{ mode: 'None' }, 'policy'],
    [{ user: '' }, 'user'],
    [{ rateMs: 5 }, 'rateMs'],
    [{ retryMs: Number.NaN }, 'retryMs'],
    [{ serverThumbprint: 'abc' }, 'serverThumbprint'],
  ])('refuse %j and name the field', (part, field) => {
    const parsed = SourceDraft.safeParse({ name: 'k', kind: 'opcua', settings: { ...opcua, ...part } })
    expect(parsed.success).toBe(false)
    const { failure, status } = invalid(parsed.error!)
    expect(status).toBe(422)
    expect(Object.keys(failure.fields!)).toContain(`settings.${field}`)
  })

  const mqtt = {
    host: 'b',
    port: 8883,
    tls: true,
    authorityId: newId(),
    clientId: 'a',
    credentialId: null,
    keepAliveS: 30,
    retryMs: 1000,
    window: 10,
    witness: true,
    witnessClientId: 'w',
    witnessCredentialId: null,
    outboxMb: 1,
  }
  it.each([
    [{ authorityId: null }, 'authorityId'],
    [{ witnessClientId: 'a' }, 'witnessClientId'],
    [{ witnessClientId: '' }, 'witnessClientId'],
    [{ port: 70_000 }, 'port'],
    [{ host: ' ' }, 'host'],
  ])('of a broker refuse %j', (part, field) => {
    const parsed = MqttSettings.safeParse({ ...mqtt, ...part })
    expect(parsed.error?.issues.map((i) => i.path.join('.'))).toContain(field)
  })
})

it('a role may what those below it may', () => {
  roles.forEach((has, i) => {
    roles.forEach((needs, k) => {
      expect(allows(has, needs)).toBe(i >= k)
    })
  })
})

it('no two endpoints share method and path, and only three are open to everybody', () => {
  const all = Object.values(routes)
  expect(new Set(all.map((r) => `${r.method} ${r.path}`)).size).toBe(all.length)
  expect(
    Object.entries(routes)
      .filter(([, r]) => r.role === null)
      .map(([k]) => k),
  ).toEqual(['logIn', 'waysIn', 'beginSignOn', 'endSignOn', 'setUp', 'openapi'])
})
