import { createServer as createPlain, type Server } from 'node:net'
import { createServer as createSecure, type TlsOptions } from 'node:tls'
import { afterAll, beforeAll, expect, it } from 'vitest'
import type { HubSettings } from '~/contract/destinations/hub'
import { freshBroker, type MqttSettings } from '~/contract/destinations/mqtt'
import type { CheckStep, Failure } from '~/contract/failure'
import type { TokenRecipe } from '~/contract/token'
import { shippedProfiles } from '~/core/hub/shipped'
import { realClock } from '~/engine/clock/real-clock'
import type { DestinationTarget, PlannedSend } from '~/engine/destinations/driver'
import { hubDriver } from '~/engine/destinations/hub/driver'
import { mqttDriver } from '~/engine/destinations/mqtt/driver'
import { failureOf } from '~/engine/failure'
import { Tokens } from '~/engine/tokens'
import { Broker } from '~/standins/broker/broker'
import { HubAuthority } from '~/standins/hub/authority'
import { Hub } from '~/standins/hub/hub'
import { brokerUsers } from '~/standins/plant'
import { Stream } from '~/standins/stream/stream'
import type { OpenCredential } from '~/store/credential'
import { type Maker, plantKit } from '../kits/make'
import { freePort } from './support'

/*
 * What goes wrong with credentials, brokers and hubs, each by the real check against a real socket: the step at which it is found, its
 * code, and what is said.
 */

const DAY_MS = 86_400_000
const SERVER = 'basicConstraints=CA:FALSE\nextendedKeyUsage=serverAuth\nsubjectAltName=DNS:localhost,IP:127.0.0.1'
const UNIT = 'kiln-edge'

let m: Maker
let broker: Broker
let ports: { plain: number; tls: number; mutual: number }
const servers: Server[] = []
const stops: (() => Promise<unknown>)[] = []
const hubs = {} as Record<'token' | 'certificate', { hub: Hub; authority: HubAuthority; stream: Stream; port: number }>

beforeAll(async () => {
  m = plantKit()
  m.certificate('server', { by: 'works-between', extensions: SERVER })
  m.certificate('direct', { by: 'works-root', extensions: SERVER })
  m.certificate('nameless', { by: 'works-root', extensions: 'basicConstraints=CA:FALSE' })
  m.certificate('client-only', { by: 'works-root', extensions: SERVER.replace('serverAuth', 'clientAuth') })
  m.certificate('sha1', { by: 'works-root', extensions: SERVER, digest: 'sha1' })
  m.certificate('rsa1024', { by: 'works-root', extensions: SERVER, key: ['-algorithm', 'RSA', '-pkeyopt', 'rsa_keygen_bits:1024'] })
  m.certificate('other-root', { extensions: 'basicConstraints=critical,CA:TRUE' })
  m.certificate('alone', { extensions: SERVER })
  m.certificate('embrik', { by: 'works-root', extensions: 'basicConstraints=CA:FALSE\nextendedKeyUsage=clientAuth' })
  m.certificate('stranger', { by: 'works-root', extensions: 'basicConstraints=CA:FALSE\nextendedKeyUsage=clientAuth' })
  m.certificate('foreign', { by: 'other-root', extensions: 'basicConstraints=CA:FALSE\nextendedKeyUsage=clientAuth' })
  m.revocations('works-root', { of: ['direct'] })
  m.write('revoked.crl', m.text('works-root.crl'))
  m.revocations('works-root', { days: -1 })
  m.write('old.crl', m.text('works-root.crl'))
  ports = { plain: await freePort(), tls: await freePort(), mutual: await freePort() }
  const own = { certificate: m.text('direct.crt'), key: m.text('direct.key') }
  broker = await Broker.start({ ports, host: '127.0.0.1', ca: m.text('works-root.crt'), ...own, users: brokerUsers })
  for (const by of ['token', 'certificate'] as const) {
    const authority = await HubAuthority.make(`${by} root`)
    const { certificate, key } = await authority.sign('hub', 'server')
    const stream = await Stream.start({ listeners: [{ name: 'plain', ports: [0] }], topics: { events: 1 }, permissions: {} })
    const port = await freePort()
    const hub = await Hub.start({ by, host: '127.0.0.1', port, tls: { certificate, key, ca: authority.root }, events: { stream, topic: 'events' } })
    hub.units.add(UNIT)
    hubs[by] = { hub, authority, stream, port }
    stops.push(
      () => hub.stop(),
      () => stream.stop(),
    )
  }
}, 120_000)
afterAll(async () => {
  for (const server of servers) server.close()
  await broker.stop()
  await Promise.all(stops.map((stop) => stop()))
})

const listen = (server: Server): Promise<number> => {
  servers.push(server)
  return new Promise((done) => server.listen(0, '127.0.0.1', () => done((server.address() as { port: number }).port)))
}
const secure = (options: TlsOptions): Promise<number> => {
  const server = createSecure(options, (socket) => socket.on('error', () => undefined))
  server.on('tlsClientError', () => undefined)
  return listen(server)
}
const of = (name: string, ...chain: string[]): TlsOptions => ({
  cert: [name, ...chain].map((n) => m.text(`${n}.crt`)).join(''),
  key: m.text(`${name}.key`),
})
const authority = (text: string): OpenCredential => ({ kind: 'authority', certificate: text, user: null, secret: null })
const root = () => authority(m.text('works-root.crt'))
const login = (user: string, secret: string): OpenCredential => ({ kind: 'password', certificate: null, user, secret })
const kit = (name: string, key = name): OpenCredential => ({
  kind: 'certificate',
  certificate: m.text(`${name}.crt`),
  user: null,
  secret: m.text(`${key}.key`),
})

interface Wrong {
  /** Of a broker. */
  settings?: Partial<MqttSettings>
  authority?: OpenCredential | null
  credential?: OpenCredential | null
  sends?: PlannedSend[]
}

const last = async (steps: AsyncGenerator<CheckStep>): Promise<CheckStep[]> => {
  const all = new Map<string, CheckStep>()
  for await (const step of steps) all.set(step.key, step)
  return [...all.values()]
}

async function ofBroker({ settings = {}, authority: trusts = root(), credential = login('embrik', 'clay-sender-1'), sends = [] }: Wrong) {
  const usual = { host: '127.0.0.1', port: ports.tls, protocol: '5', tls: true, authorityId: null, clientId: 'sender', credentialId: null }
  const terms = { keepAliveS: 30, retryMs: 200, window: 100, ackS: 20, witness: false, witnessClientId: '', witnessCredentialId: null, lateS: 30 }
  const all = {
    ...freshBroker,
    ...usual,
    ...terms,
    outboxMb: 50,
    outboxHours: 0,
    drainPerS: 0,
    journalHours: 24,
    journalMb: 20,
    ...settings,
  } as MqttSettings
  const target = { id: null, name: 'x', settings: all, authority: all.tls ? trusts : null, credential, witnessCredential: null, more: {} }
  return last(mqttDriver.check(target, { filters: [], sends, others: [] }))
}

type Case = [what: string, wrong: () => Promise<Wrong> | Wrong, step: string, code: string, says: RegExp]
const at = async (options: TlsOptions): Promise<Wrong> => ({ settings: { port: await secure(options) } })
/** Of a server that is good at another time. */
async function timed(from: number, days: number): Promise<Wrong> {
  const made = await HubAuthority.make('clock')
  const { certificate, key } = await made.sign('server', 'server', days, from)
  return { ...(await at({ cert: certificate, key })), authority: authority(made.root) }
}

const brokers: Case[] = [
  ['a name that nobody knows', () => ({ settings: { host: 'broker.invalid' } }), 'name', 'name.unknown', /cannot be resolved/],
  ['a port where nothing listens', () => ({ settings: { port: 1 } }), 'port', 'port.refused', /Nothing listens/],
  ['a certificate that has expired', () => timed(Date.now() - 9 * DAY_MS, 8), 'tls', 'tls.expired', /has expired/],
  ['a certificate of the future', () => timed(Date.now() + DAY_MS, 8), 'tls', 'tls.not-yet', /not valid yet/],
  ['a certificate of another host', () => at(of('hall-broker', 'works-between')), 'tls', 'tls.name', /broker\.varnmoor\.example/],
  ['a certificate of no host', () => at(of('nameless')), 'tls', 'tls.name', /nameless/],
  ['a chain without its middle', () => at(of('server')), 'tls', 'tls.authority', /not trusted here/],
  [
    'another root',
    async () => ({ ...(await at(of('direct'))), authority: authority(m.text('other-root.crt')) }),
    'tls',
    'tls.authority',
    /not trusted/,
  ],
  ['a certificate that signed itself', () => at(of('alone')), 'tls', 'tls.authority', /signed itself/],
  ['a certificate for clients', () => at(of('client-only')), 'tls', 'tls.purpose', /may not be used by a server/],
  ['a signature by SHA-1', () => at({ ...of('sha1'), ciphers: 'DEFAULT@SECLEVEL=0' }), 'tls', 'tls.weak', /too weak/],
  ['a key of 1,024 bits', () => at({ ...of('rsa1024'), ciphers: 'DEFAULT@SECLEVEL=0' }), 'tls', 'tls.weak', /too weak/],
  [
    'a certificate that was taken back',
    async () => ({ ...(await at(of('direct'))), authority: authority(m.text('works-root.crt') + m.text('revoked.crl')) }),
    'tls',
    'tls.revoked',
    /taken back/,
  ],
  [
    'a revocation list that is out of date',
    async () => ({ ...(await at(of('direct'))), authority: authority(m.text('works-root.crt') + m.text('old.crl')) }),
    'tls',
    'tls.list-old',
    /out of date/,
  ],
  ['TLS where none is spoken', () => ({ settings: { port: ports.plain } }), 'tls', 'tls.none', /without TLS|does not speak TLS/],
  ['no TLS where it is spoken', () => ({ settings: { tls: false } }), 'login', 'tls.wanted', /speaks TLS/],
  [
    'a web server',
    async () => ({
      settings: {
        tls: false,
        port: await listen(createPlain((s) => s.on('data', () => s.end('HTTP/1.1 400 Bad Request\r\n\r\n')).on('error', () => undefined))),
      },
    }),
    'login',
    'mqtt.other',
    /no MQTT broker/,
  ],
  [
    'one that hangs up at once',
    async () => ({ settings: { tls: false, port: await listen(createPlain((s) => s.destroy())) } }),
    'login',
    'mqtt.reset',
    /hung up/,
  ],
  [
    'one that says nothing',
    async () => ({ settings: { tls: false, port: await listen(createPlain((s) => s.on('error', () => undefined))) } }),
    'login',
    'mqtt.no-greeting',
    /does not greet/,
  ],
  ['a wrong password', () => ({ credential: login('embrik', 'wrong') }), 'login', 'mqtt.connack-134', /user or password/],
  ['nobody at all', () => ({ credential: null }), 'login', 'mqtt.connack-134', /user or password/],
  ['no certificate where one is wanted', () => ({ settings: { port: ports.mutual }, credential: null }), 'login', 'mqtt.connack-135', /not allowed/],
  [
    'the certificate of a stranger',
    () => ({ settings: { port: ports.mutual }, credential: kit('stranger') }),
    'login',
    'mqtt.connack-135',
    /not allowed/,
  ],
  [
    'a certificate of another authority',
    () => ({ settings: { port: ports.mutual }, credential: kit('foreign') }),
    'login',
    'mqtt.connack-135',
    /not allowed/,
  ],
  [
    'the key of another certificate',
    () => ({ settings: { port: ports.mutual }, credential: kit('embrik', 'stranger') }),
    'tls',
    'tls.key',
    /key does not belong/i,
  ],
  [
    'a topic that it may not write',
    () => ({ sends: [{ publication: 'p', topic: 'elsewhere/zone', assurance: 'acknowledged', kept: false, bytes: 10 }] }),
    'publish',
    'mqtt.may-not-publish',
    /elsewhere/,
  ],
]

it.each(brokers)('a broker: %s', { timeout: 40_000 }, async (_, wrong, step, code, says) => {
  judge(await ofBroker(await wrong()), step, code, says)
})

/** The first thing that failed is this, told in words with what to do, and nothing secret in it. */
function judge(steps: CheckStep[], step: string, code: string, says: RegExp): void {
  const failed = steps.find((s) => s.state === 'failed')
  expect([failed?.key, failed?.failure?.code], JSON.stringify(failed)).toEqual([step, code])
  worded(failed!.failure!, says)
}
function worded(f: Failure, says: RegExp): void {
  expect(`${f.message}. ${f.hint}`).toMatch(says)
  expect(f.hint.length).toBeGreaterThan(10)
  expect(JSON.stringify(f)).not.toMatch(/clay-sender-1|PRIVATE KEY|seal=/)
}

interface HubWrong {
  settings?: Partial<HubSettings>
  /** Of the recipe, and the user beside it. */
  recipe?: Partial<TokenRecipe>
  user?: string
  key?: string
  credential?: OpenCredential | null
  authority?: OpenCredential
  sends?: PlannedSend[]
}

async function ofHub(by: 'token' | 'certificate', w: HubWrong): Promise<CheckStep[]> {
  const { hub, authority: signs, stream, port } = hubs[by]
  const profile = shippedProfiles[by === 'token' ? 0 : 1]!
  const unit = hub.units.get(UNIT)!
  const settings = {
    ...{ host: '127.0.0.1', port, profile, authorityId: null, unit: UNIT, credentialId: null, keepAliveS: 30, retryMs: 200, window: 100, ackS: 20 },
    ...{ witness: true, lateS: 30, eventsServers: stream.places('plain')[0]!, eventsTopic: 'events', eventsTls: false, eventsAuthorityId: null },
    ...{
      eventsMechanism: 'none',
      witnessCredentialId: null,
      outboxMb: 50,
      outboxHours: 0,
      drainPerS: 0,
      journalHours: 24,
      journalMb: 20,
      proxy: '',
      proxyCredentialId: null,
    },
    ...{ registryUrl: '', registryAuthorityId: null, registryCredentialId: null },
    ...w.settings,
  } as HubSettings
  let credential = w.credential
  if (credential === undefined && by === 'token') {
    const recipe = { ...profile.token!, ...w.recipe } as TokenRecipe
    const key: OpenCredential = { kind: 'token', certificate: null, user: w.user ?? profile.user, secret: w.key ?? unit.keys[0], recipe }
    credential = await new Tokens(realClock, () => undefined).login(key, { host: settings.host, port: settings.port, identity: settings.unit })
  }
  const target: DestinationTarget<'hub'> = {
    ...{ id: null, name: 'x', settings, authority: w.authority ?? authority(signs.root), credential: credential ?? null, witnessCredential: null },
    more: { eventsAuthorityId: null, proxyCredentialId: null },
  }
  return last(hubDriver.check(target, { filters: [], sends: w.sends ?? [], others: [] }))
}

const sends = (part: Partial<PlannedSend>): PlannedSend[] => [
  { publication: 'p', topic: 'zone-1', assurance: 'acknowledged', kept: false, bytes: 10, ...part },
]
/** A certificate of the unit, registered or not. */
async function ofUnit(o: { registered?: boolean; name?: string; days?: number; from?: number } = {}): Promise<OpenCredential> {
  const { hub, authority: signs } = hubs.certificate
  const own = await signs.sign(o.name ?? UNIT, 'client', o.days, o.from)
  if (o.registered ?? true) hub.units.get(UNIT)!.certificates.push(own.sha256)
  return { kind: 'certificate', certificate: own.certificate, user: null, secret: own.key }
}
const tarn = () => hubs.token.hub
const skewed = (ms: number) => {
  tarn().skewMs = ms
  return {}
}
const disabled = (by: 'token' | 'certificate') => {
  hubs[by].hub.units.get(UNIT)!.enabled = false
  return {}
}

type HubCase = [by: 'token' | 'certificate', what: string, wrong: () => Promise<HubWrong> | HubWrong, step: string, code: string, says: RegExp]
const NO = 'mqtt.connack-134'
const NOT = 'mqtt.connack-135'
const hubCases: HubCase[] = [
  ['token', 'a token for another host', () => ({ recipe: { signed: '{identity}|other.example|{ends}' } as never }), 'login', NO, /user or password/],
  [
    'token',
    'a token of another unit',
    () => ({ recipe: { token: 'unit=other&until={ends}&seal={signature|url}' } as never }),
    'login',
    NO,
    /password/,
  ],
  ['token', 'a token of another form', () => ({ recipe: { token: 'Bearer {signature}' } as never }), 'login', NO, /password/],
  ['token', 'a token that is good for too long', () => ({ recipe: { lifetimeS: 172_800 } }), 'login', NO, /password/],
  ['token', 'a signature that is written otherwise', () => ({ recipe: { encoding: 'hex' } as never }), 'login', NO, /password/],
  ['token', 'another hash', () => ({ recipe: { hash: 'SHA-512' } as never }), 'login', NO, /password/],
  ['token', 'the key of another unit', () => ({ key: Buffer.alloc(32, 7).toString('base64') }), 'login', NO, /password/],
  ['token', 'a user of another form', () => ({ user: '{identity}' }), 'login', NO, /password/],
  ['token', 'a unit that nobody registered', () => ({ settings: { unit: 'ghost' } }), 'login', NO, /password/],
  [
    'token',
    'a clock that is 7 minutes ahead of a token of 5',
    () => ({ ...skewed(420_000), recipe: { lifetimeS: 300, marginS: 60 } }),
    'login',
    NO,
    /password/,
  ],
  [
    'token',
    'a clock that is 7 minutes behind a token of a day',
    () => ({ ...skewed(-420_000), recipe: { lifetimeS: 86_400 } }),
    'login',
    NO,
    /password/,
  ],
  ['token', 'a unit that is disabled', () => disabled('token'), 'login', NO, /password/],
  ['token', 'another root', () => ({ authority: root() }), 'tls', 'tls.authority', /not trusted here/],
  ['token', 'a payload that is too large', () => ({ sends: sends({ bytes: 70_000 }) }), 'limits', 'hub.size', /takes 65536/],
  ['token', 'a QoS that is too high', () => ({ sends: sends({ assurance: 'once' }) }), 'limits', 'hub.qos', /no QoS above 1/],
  ['token', 'retained messages', () => ({ sends: sends({ kept: true }) }), 'limits', 'hub.retained', /keep no retained/],
  ['token', 'a topic of events that is not there', () => ({ settings: { eventsTopic: 'other' } }), 'events-topics', 'stream.no-topic', /other/],
  ['token', 'events where nothing listens', () => ({ settings: { eventsServers: '127.0.0.1:1' } }), 'events-port', 'port.refused', /Nothing listens/],
  [
    'certificate',
    'a certificate that was not registered',
    async () => ({ credential: await ofUnit({ registered: false }) }),
    'login',
    NOT,
    /not allowed/,
  ],
  ['certificate', 'the certificate of another unit', async () => ({ credential: await ofUnit({ name: 'other' }) }), 'login', NOT, /not allowed/],
  [
    'certificate',
    'a certificate that has expired',
    async () => ({ credential: await ofUnit({ days: 5, from: Date.now() - 9 * DAY_MS }) }),
    'login',
    NOT,
    /not allowed/,
  ],
  [
    'certificate',
    'a certificate of the future',
    async () => ({ credential: await ofUnit({ days: 5, from: Date.now() + DAY_MS }) }),
    'login',
    NOT,
    /not allowed/,
  ],
  ['certificate', 'no certificate', () => ({ credential: null }), 'login', NOT, /not allowed/],
  ['certificate', 'a password in its place', () => ({ credential: login(UNIT, 'clay') }), 'login', NOT, /not allowed/],
  [
    'certificate',
    'another device identity',
    async () => ({ credential: await ofUnit(), settings: { unit: 'someone' } }),
    'login',
    NOT,
    /not allowed/,
  ],
  ['certificate', 'a unit that is disabled', async () => ({ ...disabled('certificate'), credential: await ofUnit() }), 'login', NOT, /not allowed/],
  [
    'certificate',
    'a place with levels',
    async () => ({ credential: await ofUnit(), sends: sends({ topic: 'firing/zone-1' }) }),
    'limits',
    'hub.place',
    /has no levels/,
  ],
]

it.each(hubCases)('a hub by %s: %s', async (by, _, wrong, step, code, says) => {
  const { hub } = hubs[by]
  try {
    judge(await ofHub(by, await wrong()), step, code, says)
  } finally {
    hub.skewMs = 0
    hub.units.get(UNIT)!.enabled = true
  }
})

it('a key that is not written as was said makes no token at all', async () => {
  const f = await ofHub('token', { key: 'not base64 !' }).then(
    () => null,
    (e: unknown) => failureOf(e, 'destination'),
  )
  expect(f?.code).toBe('token.key')
  worded(f!, /not written in base64/)
})
