import { connect, createServer } from 'node:net'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { FailureError } from '~/contract/failure'
import { Reach } from './reach'

const plain = Reach.from({}, 4601)
const may = (r: Reach, address: string, port = 502) => {
  try {
    r.demand(address, port)
    return true
  } catch (e) {
    expect((e as FailureError).failure).toMatchObject({ code: 'address.refused', hint: expect.stringContaining('EMBRIK_REFUSED_ADDRESSES') })
    return false
  }
}

describe('addresses', () => {
  it('of plants may be reached, private ones and this machine too', () => {
    for (const a of ['10.1.2.3', '192.168.0.7', '172.16.0.1', '127.0.0.1', '203.0.113.9', '::1', 'fd00::7', '2001:db8::1'])
      expect(may(plain, a), a).toBe(true)
  })

  it('of the link, of groups and of nobody may not, in whatever way they are written', () => {
    for (const a of [
      '169.254.169.254',
      'fe80::1',
      '0.0.0.0',
      '::',
      '224.0.0.251',
      '255.255.255.255',
      'ff02::1',
      '::ffff:169.254.169.254',
      '::ffff:a9fe:a9fe',
    ])
      expect(may(plain, a), a).toBe(false)
  })

  it('of groups may be where datagrams go, unless a setting refuses them', () => {
    const strict = Reach.from({ EMBRIK_REFUSED_ADDRESSES: '239.1.0.0/16' }, 1)
    for (const a of ['239.192.0.1', 'ff05::7']) plain.demand(a, 4840, a, true)
    strict.demand('239.192.0.1', 4840, '239.192.0.1', true)
    expect(() => strict.demand('239.1.2.3', 4840, '239.1.2.3', true)).toThrow('is refused')
    expect(() => plain.demand('255.255.255.255', 4840, '255.255.255.255', true)).toThrow('is refused')
  })

  it('of this machine may not at the control port of the engine', () => {
    for (const a of ['127.0.0.1', '127.9.9.9', '::1', '::ffff:127.0.0.1']) expect(may(plain, a, 4601), a).toBe(false)
    expect(may(plain, '10.1.2.3', 4601)).toBe(true)
  })

  it('are refused and allowed by setting', () => {
    const strict = Reach.from(
      { EMBRIK_REFUSED_ADDRESSES: '10.0.0.0/8, fd00::/8 127.0.0.1', EMBRIK_ALLOWED_ADDRESSES: '10.1.0.0/16,169.254.7.0/24' },
      1,
    )
    for (const a of ['10.2.0.1', 'fd00::7', '127.0.0.1', '169.254.8.1', '::ffff:10.2.0.1']) expect(may(strict, a), a).toBe(false)
    for (const a of ['10.1.2.3', '169.254.7.9', '192.168.0.7', '127.0.0.2']) expect(may(strict, a), a).toBe(true)
  })

  it('that are none are told at the start', () => {
    for (const text of ['ten.0.0.0/8', '10.0.0.0/33', '10.0.0.0/x', '10.0.0.0/-1', '10.0.0.0/'])
      expect(() => Reach.from({ EMBRIK_REFUSED_ADDRESSES: text }, 1), text).toThrow('is no network')
  })
})

describe('connections', () => {
  const server = createServer((s) => s.destroy())
  let port = 0
  beforeAll(async () => {
    await new Promise<void>((done) => server.listen(0, '127.0.0.1', done))
    port = (server.address() as { port: number }).port
  })
  afterAll(() => new Promise((done) => server.close(done)))
  const outcome = (r: Reach, host: string) =>
    new Promise<string>((done) => {
      try {
        const socket = connect(r.to(host, port))
        socket.once('connect', () => done('connected'))
        socket.once('error', (e) => done(e instanceof FailureError ? e.failure.code : ((e as { code?: string }).code ?? e.message)))
      } catch (e) {
        done((e as FailureError).failure.code)
      }
    })

  it('by name are judged by what the name means, numbers in disguise too', async () => {
    const shut = Reach.from({ EMBRIK_REFUSED_ADDRESSES: '127.0.0.0/8 ::1' }, 1)
    for (const host of ['localhost', '127.0.0.1', '127.1', '2130706433', '0x7f000001']) {
      expect(await outcome(shut, host), host).toBe('address.refused')
      await expect(shut.look(host, port), host).rejects.toThrow('is refused')
    }
    expect(await outcome(plain, 'localhost')).toBe('connected')
    expect(await outcome(plain, '127.0.0.1')).toBe('connected')
    await plain.look('localhost', port)
  })

  it('to names that nobody knows fail as before', async () => {
    expect(await outcome(plain, 'no-such-host.invalid')).toMatch(/^(ENOTFOUND|EAI_AGAIN)$/)
    await plain.look('no-such-host.invalid', port)
  })
})
