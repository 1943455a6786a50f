import { createServer, type Server } from 'node:net'
import { afterEach, expect, it } from 'vitest'
import { StreamSettings } from '~/contract/destinations/stream'
import type { CheckStep } from '~/contract/failure'
import { serversOf } from '~/contract/place'
import type { StreamTarget } from '~/engine/destinations/stream/access'
import { checkStream } from '~/engine/destinations/stream/check'
import { demoPki } from '~/standins/pki'
import { type Listener, Stream, type StreamOptions } from '~/standins/stream/stream'
import { folder } from './support'

const users = { embrik: 'kiln-7-glows', witness: 'reads-only-4' }
const open: (Stream | Server)[] = []
afterEach(async () => {
  for (const one of open.splice(0)) {
    if (one instanceof Stream) await one.stop()
    else one.close()
  }
})

const credential = (user: string, secret: string) => ({ kind: 'password' as const, certificate: null, user, secret })
const id = '01a208ce-85ce-7000-ab1f-2ce1c1e2c52f'

async function stream(listener: Partial<Listener> = {}, o: Partial<StreamOptions> = {}) {
  const made = await Stream.start({
    listeners: [{ name: 'it', ports: [0, 0], ...listener }],
    topics: { 'varnmoor.kiln': 3, 'varnmoor.dryer': 1 },
    permissions: { witness: { write: [], read: ['varnmoor.kiln'] }, embrik: { write: ['varnmoor.'], read: [] } },
    ...o,
  })
  open.push(made)
  return made
}
const target = (servers: string, part: Partial<StreamSettings> = {}, more: Partial<StreamTarget> = {}): StreamTarget => ({
  settings: StreamSettings.parse({
    ...{
      servers,
      tls: false,
      authorityId: null,
      clientId: 'embrik',
      credentialId: null,
      retryMs: 1000,
      witness: true,
      witnessCredentialId: null,
      outboxMb: 50,
      outboxHours: 0,
      drainPerS: 0,
      journalHours: 24,
      journalMb: 20,
    },
    ...part,
  }),
  authority: null,
  credential: null,
  witnessCredential: null,
  ...more,
})
const logged = (part: Partial<StreamSettings> = {}, more: Partial<StreamTarget> = {}) =>
  [
    { mechanism: 'SCRAM-SHA-256' as const, credentialId: id, witnessCredentialId: id, ...part },
    { credential: credential('embrik', users.embrik), witnessCredential: credential('witness', users.witness), ...more },
  ] as const

async function check(t: StreamTarget, topics: readonly string[] = ['varnmoor.kiln']) {
  const steps = new Map<string, CheckStep>()
  for await (const step of checkStream(t, topics)) steps.set(step.key, step)
  const failed = [...steps.values()].find((s) => s.state === 'failed')
  return { steps, said: failed ? `${failed.key}: ${failed.failure!.code}` : 'passed', failure: failed?.failure }
}

it('passes step by step where everything is in order, and sends nothing', async () => {
  const it = await stream({ users })
  const { said, steps } = await check(target(it.places('it').join(', '), ...logged()))
  expect(said).toBe('passed')
  expect([...steps.values()].map((s) => s.detail)).toEqual([
    '127.0.0.1 is an address',
    expect.stringMatching(/^\d+ answers$/),
    'logged in as embrik by SCRAM-SHA-256, without TLS: anybody in between can read and change messages; 2 nodes',
    `reached ${it.places('it').join(', ')}, as the cluster names them`,
    'varnmoor.kiln, 3 partitions',
    'each message is kept once, also when an answer is lost',
    'may read varnmoor.kiln',
  ])
  expect(it.truth.arrivals).toHaveLength(0)
})

it('tells apart what goes wrong, each with its words and what to do', async () => {
  const pki = await demoPki(folder('stream-pki'))
  const other = await demoPki(folder('stream-other-pki'))
  const tls = { cert: pki.broker.certificate, key: pki.broker.key }
  const authority = (ca: string) => ({ authority: { kind: 'authority' as const, certificate: ca, user: null, secret: null } })
  const plain = (await stream({ users })).places('it')[0]!
  const nobody = (await stream()).places('it')[0]!
  const secure = (await stream({ tls, users })).places('it')[0]!
  const elsewhere = (await stream({ named: { host: '127.0.0.1', port: 9 } })).places('it')[0]!
  const metadata = (await stream({ named: { host: '169.254.169.254', port: 80 } })).places('it')[0]!
  const mute = createServer((socket) => socket.on('error', () => undefined))
  const web = createServer((socket) => {
    socket.on('error', () => undefined)
    socket.end('HTTP/1.1 400 Bad Request\r\n\r\n')
  })
  for (const server of [mute, web]) {
    open.push(server)
    await new Promise<void>((done) => server.listen(0, '127.0.0.1', done))
  }
  const at = (server: Server) => `127.0.0.1:${(server.address() as { port: number }).port}`
  const onTls = { tls: true, authorityId: id }
  const rows: [string, Promise<{ said: string; failure: CheckStep['failure'] }>, string][] = [
    ['nodes that are named where nobody may go', check(target(metadata)), 'nodes: address.refused'],
    ['an unknown name', check(target('no-such-host.varnmoor.invalid:9092')), 'name: name.unknown'],
    ['a closed port', check(target('127.0.0.1:9')), 'port: port.refused'],
    ['a wrong password', check(target(plain, ...logged({}, { credential: credential('embrik', 'wrong') }))), 'login: stream.login'],
    ['an unknown user', check(target(plain, ...logged({}, { credential: credential('nobody', 'x') }))), 'login: stream.login'],
    ['a mechanism that it has not', check(target(nobody, ...logged({ mechanism: 'PLAIN' }))), 'login: stream.mechanism'],
    ['no log-in where one is wanted', check(target(plain)), 'login: stream.closed'],
    ['TLS where there is none', check(target(nobody, onTls, authority(pki.ca))), 'login: stream.tls'],
    ['no TLS where it is wanted', check(target(secure, ...logged())), 'login: stream.closed'],
    ['another authority', check(target(secure, ...logged(onTls, authority(other.ca)))), 'login: tls.authority'],
    ['another protocol', check(target(at(web))), 'login: stream.closed'],
    ['nodes that are named as nobody reaches them', check(target(elsewhere)), 'nodes: stream.refused'],
    ['a missing topic', check(target(plain, ...logged()), ['varnmoor.none']), 'topics: stream.no-topic'],
    ['a topic that is not allowed', check(target(plain, ...logged()), ['secret.plans']), 'topics: stream.not-allowed'],
    ['a topic that the witness may not read', check(target(plain, ...logged()), ['varnmoor.dryer']), 'witness: stream.not-allowed'],
    [
      'a wrong password of the witness',
      check(target(plain, ...logged({}, { witnessCredential: credential('witness', 'x') }))),
      'witness: stream.login',
    ],
    ['a certificate where a log-in is wanted', check(target(plain, ...logged({}, { witnessCredential: null }))), 'witness: stream.login'],
  ]
  for (const [what, work, wanted] of rows) {
    const { said, failure } = await work
    expect(said, what).toBe(wanted)
    expect(failure!.message.length, what).toBeGreaterThan(10)
    expect(failure!.hint.length, what).toBeGreaterThan(10)
  }
})

it('servers are read in many ways, and what is none is refused by its name', () => {
  expect(serversOf('kafka-1:9092, kafka-2:9093\n[::1]:9094')).toEqual([
    { host: 'kafka-1', port: 9092 },
    { host: 'kafka-2', port: 9093 },
    { host: '::1', port: 9094 },
  ])
  for (const bad of ['', 'kafka', 'kafka:', 'kafka:0', 'kafka:70000', 'a:1,b', 'http://a:1', Array.from({ length: 21 }, () => 'a:1').join()])
    expect(serversOf(bad), bad).toBeNull()
  const parsed = StreamSettings.safeParse({ ...target('a:1').settings, servers: 'kafka', tls: true, mechanism: 'PLAIN', window: 0 })
  expect(parsed.error!.issues.map((i) => i.path.join('.'))).toEqual(expect.arrayContaining(['servers', 'window']))
})
