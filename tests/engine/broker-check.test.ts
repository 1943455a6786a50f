import { createServer as createWeb, type Server as WebServer } from 'node:http'
import { type AddressInfo, createServer, type Server } from 'node:net'
import { afterAll, beforeAll, expect, it } from 'vitest'
import { WebSocketServer } from 'ws'
import { freshBroker, type MqttSettings } from '~/contract/destinations/mqtt'
import type { CheckStep } from '~/contract/failure'
import type { DestinationTarget } from '~/engine/destinations/driver'
import { mqttDriver } from '~/engine/destinations/mqtt/driver'
import { PlantProxy } from '~/standins/proxy'
import type { OpenCredential } from '~/store/credential'
import { certificates, freePort, startBroker, type TestBroker } from './support'

let b: TestBroker
let open: PlantProxy
let asks: PlantProxy
let silent: PlantProxy
/** Says something that is neither HTTP nor SOCKS, and one that hangs up at once. */
let chatter: Server
let shut: Server
/** A web server that takes WebSockets, of another service; and one that takes none. */
let other: WebServer
let sockets: WebSocketServer
let authority: OpenCredential
const nobody = { port: 0 }

const listen = (server: Server | WebServer): Promise<number> =>
  new Promise((done) => server.listen(0, '127.0.0.1', () => done((server.address() as AddressInfo).port)))
const at: Record<'chatter' | 'shut' | 'other', number> = { chatter: 0, shut: 0, other: 0 }
const proxyPort = { open: 0, asks: 0, silent: 0 }

beforeAll(async () => {
  b = await startBroker({
    plain: await freePort(),
    tls: await freePort(),
    mutual: await freePort(),
    web: await freePort(),
    webTls: await freePort(),
  })
  authority = { kind: 'authority', certificate: (await certificates()).ca, user: null, secret: null }
  for (const name of ['open', 'asks', 'silent'] as const) proxyPort[name] = await freePort()
  open = await PlantProxy.start({ port: proxyPort.open, login: null, permits: [`127.0.0.1:${b.ports.plain}`, '127.0.0.1:1'] })
  asks = await PlantProxy.start({ port: proxyPort.asks, login: { user: 'works', password: 'glaze-7' } })
  silent = await PlantProxy.start({ port: proxyPort.silent, login: null })
  silent.temper.silent = true
  chatter = createServer((s) => {
    s.on('error', () => undefined)
    s.on('data', () => s.write('220 varnmoor mail ready\r\n'))
  })
  shut = createServer((s) => s.destroy())
  other = createWeb((_, answer) => answer.writeHead(426).end())
  sockets = new WebSocketServer({ server: other, path: '/chat', handleProtocols: () => false })
  at.chatter = await listen(chatter)
  at.shut = await listen(shut)
  at.other = await listen(other)
  nobody.port = await freePort()
})
afterAll(async () => {
  sockets.close()
  for (const server of [chatter, shut, other]) server.close()
  await Promise.all([b.broker.stop(), open.stop(), asks.stop(), silent.stop()])
})

const login = (user: string, secret: string): OpenCredential => ({ kind: 'password', certificate: null, user, secret })
const sender = login('embrik', 'clay-sender-1')

function target(settings: Partial<MqttSettings>, proxy: OpenCredential | null = null): DestinationTarget<'mqtt'> {
  const usual: MqttSettings = {
    host: '127.0.0.1',
    port: b.ports.plain,
    protocol: '5',
    tls: false,
    authorityId: null,
    clientId: 'sender',
    credentialId: null,
    keepAliveS: 30,
    retryMs: 200,
    window: 100,
    ackS: 20,
    witness: false,
    witnessClientId: 'reader',
    witnessCredentialId: null,
    lateS: 30,
    outboxMb: 50,
    outboxHours: 0,
    drainPerS: 0,
    journalHours: 24,
    journalMb: 20,
    ...freshBroker,
  }
  return {
    id: null,
    name: 'Broker',
    settings: { ...usual, ...settings },
    authority: settings.tls ? authority : null,
    credential: sender,
    witnessCredential: null,
    more: { proxyCredentialId: proxy },
  }
}

async function check(t: DestinationTarget<'mqtt'>): Promise<CheckStep[]> {
  const last = new Map<string, CheckStep>()
  for await (const step of mqttDriver.check(t, { filters: [], sends: [], others: [] })) last.set(step.key, step)
  return [...last.values()]
}

type Case = [what: string, settings: () => Partial<MqttSettings>, proxy: OpenCredential | null, step: string, code: string, says: RegExp]
const through = (scheme: 'http' | 'socks5', port: number, more: Partial<MqttSettings> = {}) => ({ proxy: `${scheme}://127.0.0.1:${port}`, ...more })
const web = (more: Partial<MqttSettings> = {}): Partial<MqttSettings> => ({ transport: 'websocket', port: b.ports.web!, ...more })

const cases: Case[] = [
  ['nothing listens where the proxy should be', () => through('http', nobody.port), null, 'port', 'port.refused', /Nothing listens on port/],
  ['the name of the proxy is unknown', () => ({ proxy: 'http://no-such-proxy.invalid:3128' }), null, 'name', 'name.unknown', /no-such-proxy/],
  ...(['http', 'socks5'] as const).flatMap((scheme): Case[] => [
    [`${scheme}: a log-in is wanted`, () => through(scheme, proxyPort.asks), null, 'proxy', 'proxy.login-wanted', /Proxy log-in/],
    [`${scheme}: the log-in is wrong`, () => through(scheme, proxyPort.asks), login('works', 'wrong'), 'proxy', 'proxy.login', /refuses the log-in/],
    [
      `${scheme}: host and port are forbidden`,
      () => through(scheme, proxyPort.open, { port: b.ports.tls }),
      null,
      'proxy',
      'proxy.forbidden',
      /does not let/,
    ],
    [
      `${scheme}: nothing listens behind it`,
      () => through(scheme, proxyPort.open, { port: 1 }),
      null,
      'proxy',
      'proxy.beyond',
      /cannot reach 127.0.0.1:1/,
    ],
    [`${scheme}: it says nothing`, () => through(scheme, proxyPort.silent), null, 'proxy', 'proxy.silent', /does not answer/],
    [`${scheme}: it speaks of something else`, () => through(scheme, at.chatter), null, 'proxy', 'proxy.other', /is no (HTTP|SOCKS 5) proxy/],
    [`${scheme}: it hangs up`, () => through(scheme, at.shut), null, 'proxy', 'proxy.hangs-up', /hangs up/],
  ]),
  ['a broker in the place of the proxy', () => through('http', b.ports.plain), null, 'proxy', 'proxy.silent', /does not answer/],
  ['another path', () => web({ path: '/other' }), null, 'websocket', 'websocket.refused', /nothing at 127.0.0.1:\d+\/other/],
  ['a web server that takes no WebSockets there', () => web({ port: at.other, path: '/x' }), null, 'websocket', 'websocket.refused', /answers 4/],
  [
    'another service that takes WebSockets',
    () => web({ port: at.other, path: '/chat' }),
    null,
    'websocket',
    'websocket.no-mqtt',
    /does not speak MQTT/,
  ],
  ['the port for plain MQTT', () => web({ port: b.ports.plain }), null, 'websocket', 'mqtt.reset', /hung up/],
  ['something that is no web server', () => web({ port: at.chatter }), null, 'websocket', 'websocket.other', /takes no WebSockets/],
  ['WebSockets without TLS where TLS is spoken', () => web({ port: b.ports.webTls! }), null, 'websocket', 'tls.wanted', /speaks TLS/],
  ['WebSockets with TLS where none is spoken', () => web({ tls: true }), null, 'tls', 'tls.none', /does not speak TLS/],
  ['plain MQTT where WebSockets are wanted', () => ({ port: b.ports.web! }), null, 'login', 'mqtt.other', /no MQTT broker/],
  ['another host that does not answer', () => ({ otherHosts: `127.0.0.1:${nobody.port}` }), null, 'other', 'port.refused', /Nothing listens/],
]

it.each(cases)('%s', { timeout: 40_000 }, async (_, settings, proxy, key, code, says) => {
  const steps = await check(target(settings(), proxy))
  const failed = steps.find((s) => s.state === 'failed')
  expect([failed?.key.split(' ')[0], failed?.failure?.code], JSON.stringify(failed)).toEqual([key, code])
  expect(`${failed!.failure!.message}. ${failed!.failure!.hint}`).toMatch(says)
  expect(failed!.failure!.hint.length).toBeGreaterThan(10)
  expect(JSON.stringify(steps)).not.toMatch(/clay-sender-1|glaze-7|wrong"/)
})

it.each<[string, () => Partial<MqttSettings>, OpenCredential | null]>([
  ['through a proxy of HTTP', () => through('http', proxyPort.open), null],
  ['through a proxy of SOCKS 5 that asks', () => through('socks5', proxyPort.asks), login('works', 'glaze-7')],
  ['over a secure WebSocket', () => web({ port: b.ports.webTls!, tls: true }), null],
  ['over a WebSocket through a proxy', () => ({ ...web(), ...through('http', proxyPort.asks) }), login('works', 'glaze-7')],
  ['with another host that answers', () => ({ otherHosts: `127.0.0.1:${b.ports.plain}` }), null],
])('passes %s', async (_, settings, proxy) => {
  const steps = await check(target(settings(), proxy))
  expect(steps.map((s) => `${s.key.split(' ')[0]} ${s.state}`)).not.toContainEqual(expect.stringMatching(/failed|skipped/))
})
