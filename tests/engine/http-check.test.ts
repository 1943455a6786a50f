import { createServer as createPlain, type Server } from 'node:http'
import type { Socket } from 'node:net'
import { afterEach, describe, expect, it } from 'vitest'
import { HttpSettings } from '~/contract/destinations/http'
import type { CheckStep, Failure } from '~/contract/failure'
import { packProperties, plainJson } from '~/core/delivery/properties'
import { realClock } from '~/engine/clock/real-clock'
import type { Answer, DestinationSink } from '~/engine/destinations/driver'
import { type HttpTarget, senderUser, sessionOf } from '~/engine/destinations/http/access'
import { checkHttp } from '~/engine/destinations/http/check'
import { HttpSender } from '~/engine/destinations/http/sender'
import { demoPki } from '~/standins/pki'
import { ReceiverFaults } from '~/standins/receiver/faults'
import { Receiver, type ReceiverOptions } from '~/standins/receiver/receiver'
import { folder, until } from './support'
import { talker } from './talker'

const users = { embrik: { secret: 'kiln-7-glows', reads: false }, witness: { secret: 'reads-only-4', writes: false } }
const id = '01a208ce-85ce-7000-ab1f-2ce1c1e2c52f'
const open: { stop(): unknown }[] = []
afterEach(async () => {
  for (const one of open.splice(0).reverse()) await one.stop()
})

const password = (user: string, secret: string) => ({ kind: 'password' as const, certificate: null, user, secret })
const authority = (ca: string) => ({ kind: 'authority' as const, certificate: ca, user: null, secret: null })
const faults = (part: Partial<ReceiverFaults>) => ReceiverFaults.parse(part)

async function receiver(o: Partial<ReceiverOptions> = {}): Promise<Receiver> {
  const made = await Receiver.start({ port: 0, ...o })
  open.push(made)
  return made
}

const socket = (answer: (socket: Socket) => void) => talker(answer, open)

function target(url: string, part: Partial<HttpSettings> = {}, more: Partial<HttpTarget> = {}): HttpTarget {
  const settings = HttpSettings.parse({
    ...{ url, authorityId: null, credentialId: null, witnessCredentialId: null, retryMs: 1000, ackS: 2, witness: false, outboxMb: 50 },
    ...part,
  })
  return { settings, authority: null, credential: null, witnessCredential: null, ...more }
}
const at = (port: number, scheme = 'http') => `${scheme}://127.0.0.1:${port}/api`
const basic = { loginBy: 'basic' as const, credentialId: id }
const logged = { credential: password('embrik', users.embrik.secret), witnessCredential: password('witness', users.witness.secret) }
const reads = (port: number, part: Partial<HttpSettings> = {}) => ({ witness: true, readUrl: `${at(port)}/kept?after={cursor}`, ...part })
const send = (topic: string) => ({ publication: 'Kiln', topic, assurance: 'acknowledged' as const, kept: false, bytes: 100 })

async function check(t: HttpTarget, paths: readonly string[] = []) {
  const steps = new Map<string, CheckStep>()
  for await (const step of checkHttp(t, paths.map(send))) steps.set(step.key, step)
  const failed = [...steps.values()].find((s) => s.state === 'failed')
  return { steps, said: failed ? `${failed.key}: ${failed.failure!.code}` : 'passed', failure: failed?.failure }
}

it('passes step by step where everything is in order, and keeps nothing there', async () => {
  const it = await receiver({ users })
  const { steps, said } = await check(target(at(it.port), { ...basic, ...reads(it.port) }, logged), ['kiln/zone-1'])
  expect(said).toBe('passed')
  expect([...steps.values()].map((s) => s.detail)).toEqual([
    '127.0.0.1 is an address',
    expect.stringMatching(/^\d+ answers$/),
    expect.stringMatching(/^answers in \d+ ms; without TLS: anybody in between can read and change messages$/),
    'kiln/zone-1 may be asked for',
    '0 kept in the first answer, and where to go on',
  ])
  expect(it.arrivals).toHaveLength(0)
})

it('tells apart what goes wrong at a check, each with its words and what to do', async () => {
  const pki = await demoPki(folder('http-pki'))
  const other = await demoPki(folder('http-other-pki'))
  const tls = { cert: pki.broker.certificate, key: pki.broker.key }
  const plain = await receiver({ users })
  const secure = await receiver({ users, tls })
  const closed = await receiver({ users })
  closed.setFaults(faults({ refuseLogins: true }))
  const forbidden = await receiver()
  forbidden.setFaults(faults({ errorOn: 'secret', status: 403 }))
  const none = await receiver()
  none.setFaults(faults({ errorOn: 'nowhere', status: 404 }))
  const mute = await socket(() => undefined)
  const broker = await socket((s) => void s.write(Buffer.from([0x20, 0x02, 0x00, 0x05])))
  const hangsUp = await socket((s) => void s.once('data', () => s.destroy()))
  const halfWay = await socket((s) => void s.once('data', () => s.end('HTTP/1.1 200 OK\r\ncontent-length: 100\r\n\r\nhalf')))
  const page: Server = createPlain((_, res) => void res.end('<html><title>Log in</title></html>'))
  await new Promise<void>((done) => page.listen(0, '127.0.0.1', done))
  open.push({ stop: () => new Promise((done) => page.close(done)) })
  const pagePort = (page.address() as { port: number }).port
  const trust = { authority: authority(pki.ca) }
  const oauth = { loginBy: 'oauth' as const, credentialId: id, tokenUrl: `http://127.0.0.1:${plain.port}/token` }
  const rows: [what: string, work: ReturnType<typeof check>, wanted: string, words: string | RegExp][] = [
    ['an unknown name', check(target('http://no-such-host.varnmoor.invalid/api')), 'name: name.unknown', 'cannot be resolved'],
    ['a closed port', check(target('http://127.0.0.1:9/api')), 'port: port.refused', 'Nothing listens'],
    ['an address that is not to be reached', check(target('http://169.254.169.254/latest')), 'name: address.refused', 'is refused'],
    ['a server that says nothing', check(target(at(mute))), 'answer: http.silent', 'no answer in time'],
    ['one that hangs up', check(target(at(hangsUp))), 'answer: http.cut', 'hung up before it answered'],
    ['one that stops half way', check(target(at(halfWay))), 'answer: http.cut', 'hung up'],
    ['another protocol', check(target(at(broker))), 'answer: http.protocol', 'does not answer by HTTP'],
    ['TLS where there is none', check(target(at(plain.port, 'https'))), 'tls: tls.protocol', 'does not speak TLS'],
    ['no TLS where it is wanted', check(target(at(secure.port))), 'answer: http.cut', 'hung up'],
    ['an authority that is not trusted', check(target(at(secure.port, 'https'))), 'tls: tls.authority', 'not trusted here'],
    [
      'another authority',
      check(target(at(secure.port, 'https'), {}, { authority: authority(other.ca) })),
      'tls: tls.authority',
      'another authority of the same name',
    ],
    ['no log-in where one is wanted', check(target(at(plain.port))), 'answer: http.login', '401: who are you?'],
    ['a wrong password', check(target(at(plain.port), basic, { credential: password('embrik', 'x') })), 'answer: http.login', '401'],
    [
      'a log-in that is refused just now',
      check(target(at(secure.port, 'https'), basic, { ...trust, credential: password('nobody', 'x') })),
      'answer: http.login',
      '401',
    ],
    [
      'a wrong secret for tokens',
      check(target(at(plain.port), oauth, { credential: password('embrik', 'x') })),
      'token: http.token-refused',
      'invalid_client',
    ],
    [
      'tokens from nowhere',
      check(target(at(plain.port), { ...oauth, tokenUrl: 'http://127.0.0.1:9/token' }, logged)),
      'token: http.token',
      'No token',
    ],
    [
      'tokens from a page',
      check(target(at(plain.port), { ...oauth, tokenUrl: `http://127.0.0.1:${pagePort}/` }, logged)),
      'token: http.token-form',
      'no bearer token',
    ],
    ['a path that is not there', check(target(at(none.port)), ['nowhere/1']), 'paths: http.no-path', 'nothing at this path'],
    ['a path that is not ours', check(target(at(forbidden.port)), ['secret/1']), 'paths: http.not-allowed', 'not allowed there'],
    [
      'a witness that may not read',
      check(target(at(plain.port), { ...basic, ...reads(plain.port) }, { credential: logged.credential })),
      'witness: http.not-allowed',
      'not to be read by you',
    ],
    ['a place to read that is no JSON', check(target(at(pagePort), reads(pagePort))), 'witness: http.read-form', 'no JSON: Log in'],
    [
      'a list that is not there',
      check(target(at(none.port), reads(none.port, { readItems: '/rows' }))),
      'witness: http.read-form',
      'no list at /rows',
    ],
    [
      'a place to read that is not there',
      check(target(at(none.port), { witness: true, readUrl: `http://127.0.0.1:${none.port}/x?{cursor}` })),
      'witness: http.no-path',
      '404',
    ],
    ['a server that refuses everybody', check(target(at(closed.port), basic, logged)), 'answer: http.login', '401'],
  ]
  for (const [what, work, wanted, words] of rows) {
    const { said, failure } = await work
    expect(said, what).toBe(wanted)
    expect(failure!.message, what).toMatch(words)
    expect(failure!.hint.length, what).toBeGreaterThan(10)
  }
})

it('a certificate that is none, and a log-in that is a certificate, are told before anything is tried', async () => {
  const url = 'https://127.0.0.1:9/api'
  const certificate = { kind: 'certificate' as const, certificate: null, user: null, secret: null }
  expect(() => senderUser(target(url, { loginBy: 'certificate', credentialId: id }, logged))).toThrow('needs a certificate with its key')
  expect(() => senderUser(target(url, basic, { credential: certificate }))).toThrow('needs a user and a password')
})

/** Sends messages over a session of their own, and gives what was said to each, and why the link was lost. */
async function sending(t: HttpTarget, payloads: readonly string[], path = 'kiln/zone-1') {
  const answers = new Map<number, Answer>()
  const lost: Failure[] = []
  const sink: DestinationSink = {
    down: (failure) => void lost.push(failure),
    ready: () => undefined,
    durable: (then) => then(),
    wall: () => realClock.wall(),
    waits: () => undefined,
    asked: () => undefined,
    mayGoOut: () => true,
    doneLately: () => [],
    anew: () => undefined,
  }
  const sender = await HttpSender.begin(sessionOf(senderUser(t), realClock), t.settings, sink, realClock, new Map())
  open.push({ stop: () => sender.close() })
  for (const [i, payload] of payloads.entries()) {
    const properties = packProperties({ ...plainJson, how: 'POST' })
    const times = { deviceAt: 0, producedAt: 0, turn: 0, madeMono: 0 }
    const envelope = { delivery: 1, seq: i + 1, topic: path, payload, properties, assurance: 'acknowledged' as const, ...times }
    const m = { envelope, id: `7f3a9c21.1.${i + 1}`, ordinal: i, again: false, inDoubt: false, alone: false }
    const unfit = sender.unfit(m)
    if (unfit) answers.set(i, { kind: 'refused', failure: unfit })
    else sender.send(m, (answer) => answers.set(i, answer))
  }
  await until(() => lost.length > 0 || answers.size === payloads.length, 'answers', 20)
  return { answers, lost, first: answers.get(0) }
}

describe('what a server says to a message', () => {
  const rows: [part: Partial<ReceiverFaults>, kind: Answer['kind'], code: string, more?: object][] = [
    [{ status: 400 }, 'refused', 'http.malformed'],
    [{ status: 401 }, 'later', 'http.login'],
    [{ status: 403 }, 'refused', 'http.not-allowed'],
    [{ status: 404 }, 'refused', 'http.no-path'],
    [{ status: 405 }, 'refused', 'http.method'],
    [{ status: 408 }, 'later', 'http.timed-out', { place: true }],
    [{ status: 409 }, 'refused', 'http.conflict'],
    [{ status: 410 }, 'refused', 'http.no-path'],
    [{ status: 413 }, 'refused', 'http.too-large'],
    [{ status: 415 }, 'refused', 'http.content-type'],
    [{ status: 418 }, 'refused', 'http.status-418'],
    [{ status: 422 }, 'refused', 'http.content'],
    [{ status: 425 }, 'later', 'http.too-early', { place: true }],
    [{ status: 429, retryAfterS: 7 }, 'later', 'http.too-many', { waitMs: 7000 }],
    [{ status: 431 }, 'refused', 'http.headers'],
    [{ status: 500 }, 'later', 'http.status-500', { place: true }],
    [{ status: 501 }, 'refused', 'http.method'],
    [{ status: 502 }, 'later', 'http.gateway'],
    [{ status: 503, retryAfterS: 3 }, 'later', 'http.busy', { waitMs: 3000 }],
    [{ status: 507 }, 'later', 'http.full'],
    [{ status: 302, location: 'https://elsewhere.varnmoor.invalid/' }, 'later', 'http.redirect'],
    [{ status: 308, location: '/api/moved' }, 'later', 'http.redirect'],
  ]
  it.each(rows)('%o', async (part, kind, code, more) => {
    const it = await receiver()
    it.setFaults(faults({ errorOn: 'zone-1', ...part }))
    const { first } = await sending(target(at(it.port)), ['{"n":1}'])
    expect(first).toMatchObject({ kind, ...more })
    const { failure } = first as { failure: Failure }
    expect(failure.code).toBe(code)
    expect(failure.message).toMatch(/^\/kiln\/zone-1: .{10}/)
    expect(failure.hint.length).toBeGreaterThan(10)
    expect(it.arrivals).toHaveLength(0)
  })
})

it('a redirect within the same place is followed where that is allowed, and never to another place', async () => {
  const it = await receiver()
  const elsewhere = await receiver()
  it.setFaults(faults({ errorOn: 'zone-1', status: 308, location: '/api/moved' }))
  expect((await sending(target(at(it.port), { redirects: true }), ['{"n":1}'])).first).toEqual({ kind: 'has' })
  expect(it.arrivals.map((a) => a.path)).toEqual(['/moved'])
  it.setFaults(faults({ errorOn: 'zone-1', status: 307, location: `${at(elsewhere.port)}/stolen` }))
  expect((await sending(target(at(it.port), { ...basic, redirects: true }, logged), ['{"n":1}'])).first).toMatchObject({ kind: 'later' })
  expect(elsewhere.requests).toBe(0)
})

it('a server that takes octets and says nothing, or answers half, loses the link: nothing is known of what was sent', async () => {
  for (const [answer, code] of [
    [() => undefined, 'http.silent'],
    [(s: Socket) => s.end('HTTP/1.1 201 Created\r\ncontent-length: 50\r\n\r\nhalf'), 'http.cut'],
    [(s: Socket) => s.end('SSH-2.0-OpenSSH_9.2\r\n'), 'http.protocol'],
  ] as const) {
    let greeted = false
    const port = await socket((s) => {
      s.on('data', () => {
        if (greeted) answer(s)
        else s.end('HTTP/1.1 204 No Content\r\nconnection: close\r\n\r\n')
        greeted = true
      })
    })
    const { lost, answers } = await sending(target(at(port)), ['{"n":1}'])
    expect(lost.map((f) => f.code)).toEqual([code])
    expect(answers.size).toBe(0)
  }
})

it('tokens are renewed ahead of their end, and after one was refused', async () => {
  const it = await receiver({ users: { embrik: { secret: 's: é%' } } })
  const oauth = { loginBy: 'oauth' as const, credentialId: id, tokenUrl: `http://127.0.0.1:${it.port}/token` }
  const who = { credential: password('embrik', 's: é%') }
  expect((await sending(target(at(it.port), oauth, who), ['{"n":1}', '{"n":2}'])).answers.size).toBe(2)
  expect(it.logins.given).toBe(1)
  // It lives for so short that it is fetched for each request.
  it.logins.lifeS = 1
  await sending(target(at(it.port), oauth, who), ['{"n":1}', '{"n":2}', '{"n":3}'])
  expect(it.logins.given).toBeGreaterThanOrEqual(3)
  it.logins.lifeS = 600
  const session = sessionOf(senderUser(target(at(it.port), oauth, who)), realClock)
  const first = await session.authorization()
  expect(await session.authorization()).toEqual(first)
  session.tokens!.forget()
  expect(await session.authorization()).not.toEqual(first)
  session.close()
})

it('a path that is none is refused before it is sent', async () => {
  const it = await receiver()
  for (const path of ['', 'a b', '../up', 'x/../y', 'a#b', 'zone\n1'])
    expect((await sending(target(at(it.port)), ['{}'], path)).first).toMatchObject({ kind: 'refused', failure: { code: 'http.path' } })
  expect(it.arrivals).toHaveLength(0)
})
