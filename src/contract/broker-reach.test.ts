import { expect, it } from 'vitest'
import { headerLines, proxyAt, proxyPlace, proxyUses } from './broker-reach'
import { freshBroker, MqttSettings } from './destinations/mqtt'

it('reads proxies of both kinds, by name and address, and nothing that holds a log-in or a path', () => {
  expect(proxyAt('http://proxy.example:3128')).toEqual({ scheme: 'http', host: 'proxy.example', port: 3128 })
  expect(proxyAt(' SOCKS5://[fd00::1]:1080/ ')).toEqual({ scheme: 'socks5', host: 'fd00::1', port: 1080 })
  for (const bad of [
    '',
    'proxy:3128',
    'https://proxy:3128',
    'http://proxy',
    'http://u:p@proxy:3128',
    'http://proxy:0',
    'http://proxy:70000',
    'http://proxy:1/x',
  ])
    expect(proxyAt(bad), bad).toBeNull()
  expect(proxyPlace({ scheme: 'socks5', host: 'fd00::1', port: 1080 })).toBe('socks5://[fd00::1]:1080')
  const proxyCredentialId = '01a208ce-85ce-7000-ab1f-2ce1c1e2c52f'
  expect(proxyUses({ proxy: 'http://p:1', proxyCredentialId })).toEqual([
    { credentialId: proxyCredentialId, field: 'proxyCredentialId', place: 'http://p:1' },
  ])
  expect(proxyUses({ proxy: '', proxyCredentialId })).toEqual([])
})

it('reads headers, and refuses those of the handshake, of a log-in, and what is none', () => {
  expect(headerLines('X-Works: Varnmoor\r\n\n x-line:  kiln 1 \nempty:')).toEqual({ 'X-Works': 'Varnmoor', 'x-line': 'kiln 1', empty: '' })
  for (const bad of ['no colon', 'Host: a', 'Authorization: Bearer x', 'Sec-WebSocket-Key: x', 'Cookie: a=b', 'a b: c', 'x: \u20ac', ': x'])
    expect(headerLines(bad), bad).toBeNull()
})

it('a broker needs what it is asked for: TLS to be sent elsewhere, MQTT 5 for a delay, topics that are topics', () => {
  const settings = {
    ...freshBroker,
    host: 'broker.example',
    port: 1883,
    tls: false,
    authorityId: null,
    clientId: 'a',
    credentialId: null,
    keepAliveS: 30,
    retryMs: 1000,
    window: 10,
    witness: false,
    witnessClientId: '',
    witnessCredentialId: null,
    outboxMb: 10,
  }
  const wrong = (more: object) => MqttSettings.safeParse({ ...settings, ...more }).error?.issues.map((i) => i.path.join('.'))
  expect(wrong({})).toBeUndefined()
  expect(wrong({ redirects: true })).toEqual(['redirects'])
  expect(wrong({ protocol: '3.1.1', willDelayS: 5 })).toEqual(['willDelayS'])
  expect(wrong({ otherHosts: 'standby' })).toEqual(['otherHosts'])
  expect(wrong({ path: 'mqtt' })).toEqual(['path'])
  expect(wrong({ headers: 'Authorization: x' })).toEqual(['headers'])
  expect(wrong({ proxy: 'proxy' })).toEqual(['proxy'])
  for (const willTopic of ['a/#', '$SYS/x', 'a/+/b', 'a\u0000']) expect(wrong({ willTopic }), willTopic).toEqual(['willTopic'])
  expect(wrong({ willPayload: 'x'.repeat(60_001) })).toEqual(['willPayload'])
  expect(MqttSettings.parse({ ...settings, willTopic: 'works/gone' })).toMatchObject({
    transport: 'tcp',
    path: '/mqtt',
    aliases: 0,
    sessionS: 86_400,
  })
})
