import { describe, expect, it } from 'vitest'
import { brokerPlace, placeOf } from '~/contract/place'
import type { SourceDraft } from '~/contract/source'
import { destinationUses, sourceReach, sourceUses } from './reach'

const source = (kind: SourceDraft['kind'], settings: object) => sourceReach({ kind, settings } as SourceDraft)

describe('where a secret goes', () => {
  it('is host and port and how it is protected, whatever the rest', () => {
    const kiln = { endpoint: 'opc.tcp://Kiln:4840/a', mode: 'SignAndEncrypt' }
    expect(source('opcua', kiln)).toBe('opc.tcp+signandencrypt://kiln:4840')
    expect(source('opcua', { ...kiln, endpoint: 'opc.tcp://kiln' })).toBe('opc.tcp+signandencrypt://kiln:4840')
    expect(source('opcua', { ...kiln, mode: 'None' })).not.toBe(source('opcua', kiln))
    expect(source('http', { url: 'https://Air.example/a?b' })).toBe('https://air.example:443')
    expect(source('http', { url: 'http://air.example:443/a' })).toBe('http://air.example:443')
    expect(source('sql', { host: 'DB', port: 5432, tls: true })).toBe('postgresqls://db:5432')
    expect(source('sql', { host: 'db', port: 5432, tls: false })).toBe('postgresql://db:5432')
    expect(source('modbus', { host: 'x', port: 502 })).toBeNull()
    expect(brokerPlace({ host: '::1', port: 1883, tls: false })).toBe('mqtt://[::1]:1883')
  })

  it.each([
    ['mqtts://Broker.example:8883', 'mqtts://broker.example:8883'],
    ['mqtts://broker.example', 'mqtts://broker.example:8883'],
    ['mqtt://[::1]:1884/', 'mqtt://[::1]:1884'],
    ['broker.example', null],
    ['mqtt://user@broker', null],
    ['mqtt://broker:99999', null],
    ['ftp://broker', null],
    ['Kafka://B1', 'kafka://b1:9092'],
    ['kafka-secure://b1:19092', 'kafka-secure://b1:19092'],
    ['constructor://b1', null],
  ])('%s as an administrator types it', (text, place) => expect(placeOf(text)).toBe(place))

  it('each credential that is handed over is named with its field; that of a witness that is off is not', () => {
    const settings = { host: 'b', port: 1, tls: false, credentialId: 'a', witnessCredentialId: 'w', witness: true } as never
    expect(destinationUses({ kind: 'mqtt', settings }).map((u) => [u.credentialId, u.field])).toEqual([
      ['a', 'settings.credentialId'],
      ['w', 'settings.witnessCredentialId'],
    ])
    expect(destinationUses({ kind: 'mqtt', settings: { ...(settings as object), witness: false } as never })).toHaveLength(1)
    const stream = { servers: 'a:9092, B:9093', tls: true, credentialId: 's', witness: false, witnessCredentialId: null } as never
    expect(destinationUses({ kind: 'stream', settings: stream }).map((u) => u.place)).toEqual(['kafka-secure://a:9092', 'kafka-secure://b:9093'])
    const schemas = { registryUrl: 'https://Schemas.example:8081/v1', registryCredentialId: 'r' }
    expect(destinationUses({ kind: 'stream', settings: { ...(stream as object), ...schemas } as never })[0]).toEqual({
      ...{ credentialId: 'r', field: 'settings.registryCredentialId', place: 'https://schemas.example:8081' },
    })
    expect(sourceUses({ kind: 'mqtt', settings: { host: 'b', port: 1, tls: true, credentialId: 'a' } } as never)).toEqual([
      { credentialId: 'a', field: 'settings.credentialId', place: 'mqtts://b:1' },
    ])
  })
})
