import { createPrivateKey, createSecretKey } from 'node:crypto'
import { SignJWT } from 'jose'
import { beforeAll, describe, expect, it } from 'vitest'
import { HandedOver, KeepHanded } from '~/contract/intake'
import { type Maker, plantKit } from '../../../tests/kits/make'
import { lookAt, toKeep } from './offers'

let m: Maker
beforeAll(() => {
  m = plantKit()
}, 60_000)

const NOW = Date.now() + 3_600_000
const HOUR = 3_600_000
const handed = (files: Record<string, string>, text = '') =>
  HandedOver.parse({ files: Object.entries(files).map(([name, content]) => ({ name, content: Buffer.from(content).toString('base64') })), text })
const found = async (files: Record<string, string>, text = '', now = NOW) =>
  (await lookAt(handed(files, text), [], now)).findings.map((f) => `${f.severity} ${f.code.slice(11)}: ${f.message}`)

describe('the certificate of a server that is handed over with an address', () => {
  const server = () => ({ 'server.pem': m.text('hall-broker.crt'), 'ca.pem': m.text('works-between.crt') + m.text('works-root.crt') })

  it('is for the host, by name, star or address, or says for which it is', async () => {
    for (const host of ['broker.varnmoor.example', 'BROKER.varnmoor.example', '10.0.0.7']) expect(await found(server(), `host: ${host}`)).toEqual([])
    expect(await found(server(), 'host: hub.varnmoor.example')).toEqual([
      'warning other-host: hall-broker is for broker.varnmoor.example, 10.0.0.7, not for hub.varnmoor.example',
    ])
    expect(await found(server(), 'host: 10.0.0.8')).toHaveLength(1)
    expect(await found(server())).toEqual([])
  })

  it('has an end, and a use, too', async () => {
    expect(await found({ a: m.text('hall-broker.crt') }, '', NOW + 500 * 24 * HOUR)).toEqual([
      expect.stringContaining('stop expired: hall-broker ended'),
    ])
    m.certificate('odd-server', { by: 'works-root', extensions: 'extendedKeyUsage=clientAuth\nsubjectAltName=DNS:*.varnmoor.example' })
    expect(await found({ a: m.text('odd-server.crt') }, 'host: hub.varnmoor.example')).toEqual([
      'stop other-purpose: odd-server may not be used as a server (extended key usage)',
    ])
  })
})

describe('a revocation list', () => {
  const kit = (...lists: string[]) => ({
    'kiln.pem': m.text('kiln-7.crt') + m.text('kiln-7.key'),
    'chain.pem': m.text('works-between.crt') + m.text('works-root.crt'),
    ...Object.fromEntries(lists.map((name) => [name, m.text(name)])),
  })

  it('that takes nothing back says nothing, and is kept with its authority', async () => {
    m.revocations('works-root')
    m.revocations('works-between')
    const all = handed(kit('works-root.crl', 'works-between.crl'))
    const told = await lookAt(all, [], NOW)
    expect(told.findings).toEqual([])
    const [, root] = told.offers
    expect(root!.facts!.lists!.map((l) => l.issuer)).toEqual([expect.stringContaining('works-root'), expect.stringContaining('works-between')])
    const [kept] = await toKeep(KeepHanded.parse({ ...all, keep: [{ id: root!.id, name: 'Works' }] }), NOW)
    expect(kept!.certificate!.match(/BEGIN X509 CRL/g)).toHaveLength(2)
    // The same again is kept already; without its lists it is another.
    const there = [{ id: '01890000-0000-7000-8000-000000000001', kind: 'authority' as const, facts: kept!.facts }]
    expect((await lookAt(all, there, NOW)).offers[1]!.there).not.toBeNull()
    const bare = [{ ...there[0]!, facts: { ...kept!.facts!, lists: undefined } }]
    expect((await lookAt(all, bare, NOW)).offers[1]!.there).toBeNull()
  })

  it('that takes the certificate back, or the one between', async () => {
    m.revocations('works-between', { of: ['kiln-7'] })
    expect(await found(kit('works-between.crl'))).toEqual([expect.stringMatching(/^stop revoked: kiln-7 was taken back by works-between on 20/)])
    m.revocations('works-root', { of: ['works-between'] })
    expect(await found(kit('works-root.crl'))).toEqual([expect.stringMatching(/^stop revoked: works-between was taken back by works-root on 20/)])
  })

  it('of an authority that has another key by now is its all the same', async () => {
    m.revocations('works-root')
    m.openssl('req', '-x509', '-new', '-key', 'dryer-2.key', '-subj', '/O=Varnmoor Clayworks/CN=works-root', '-out', 'renewed.crt')
    expect(await found({ 'first.pem': m.text('renewed.crt'), ...kit('works-root.crl') })).not.toContainEqual(expect.stringContaining('list-unsigned'))
  })

  it('that is out of date is told and not kept; one that somebody else signed counts for nothing', async () => {
    m.revocations('works-root', { days: -3 })
    const all = handed(kit('works-root.crl'))
    const told = await lookAt(all, [], NOW)
    expect(told.findings.map((f) => f.code)).toEqual(['credential.list-old'])
    expect(told.offers[1]!.facts!.lists).toBeUndefined()
    m.certificate('works-root-2', { extensions: 'basicConstraints=critical,CA:TRUE' })
    m.write('other.crt', m.text('works-root.crt'))
    m.openssl('req', '-x509', '-new', '-key', 'works-root-2.key', '-subj', '/O=Varnmoor Clayworks/CN=works-root', '-out', 'other.crt')
    m.write('other.key', m.text('works-root-2.key'))
    m.revocations('other', { of: ['works-between'] })
    expect(await found(kit('other.crl'))).toEqual(['warning list-unsigned: The revocation list of works-root is not signed by works-root'])
  })
})

describe('a token', () => {
  const secret = 'Z2xhemUtYW5kLXNsaXAtZ2xhemUtYW5kLXNsaXAtZ2xhemU='
  const claims = { sub: 'kiln-7', aud: 'hub.varnmoor.example' }
  const token = (
    o: { claims?: object; end?: number | null; from?: number } = {},
    key = createSecretKey(Buffer.from(secret, 'base64')),
    alg = 'HS256',
  ) => {
    const { end = NOW + 60 * 24 * HOUR, from } = o
    const made = new SignJWT({ ...claims, ...o.claims }).setProtectedHeader({ alg })
    if (end !== null) made.setExpirationTime(Math.round(end / 1000))
    if (from !== undefined) made.setNotBefore(Math.round(from / 1000))
    return made.sign(key)
  }
  const letter = (text: string, more = '') => `host: hub.varnmoor.example\ndevice: kiln-7\ntoken: ${text}\n${more}`

  it('says what stands in it, and not what signs it', async () => {
    const text = await token()
    const told = await lookAt(handed({}, letter(text)), [], NOW)
    expect(told.pieces.find((p) => p.role === 'token')!.detail).toMatch(/^HS256, of kiln-7, for hub.varnmoor.example, until 20\d\d-/)
    expect(JSON.stringify(told)).not.toContain(text.split('.')[2])
    expect(told.findings.map((f) => f.code)).toEqual(['credential.token-ends'])
    expect(await found({}, letter(await token({ end: null })))).toEqual([])
  })

  it.each([
    ['that has ended', { end: NOW - HOUR }, 'stop token-ended: The token ended on'],
    ['that ends today', { end: NOW + 3 * HOUR }, 'warning token-ends-soon: The token ends in 3 h'],
    ['that ends at once', { end: NOW + 20 * 60_000 }, 'warning token-ends-soon: The token ends in 20 min'],
    ['of tomorrow', { from: NOW + 24 * HOUR, end: null }, 'stop token-not-yet: The token is valid only from'],
    [
      'for another place',
      { claims: { aud: 'https://other.example/in' }, end: null },
      'warning token-audience: The token is for https://other.example/in',
    ],
    [
      'of another identity',
      { claims: { sub: 'dryer-2' }, end: null },
      'warning token-identity: The token is of dryer-2, and the client id is kiln-7',
    ],
  ])('%s', async (_name, how, told) => {
    expect(await found({}, letter(await token(how)))).toEqual([expect.stringContaining(told)])
  })

  it('for something that is no host, or for several of which one is this, is right', async () => {
    expect(await found({}, letter(await token({ claims: { aud: 'telemetry' }, end: null })))).toEqual([])
    expect(await found({}, letter(await token({ claims: { aud: ['other.example', 'hub.varnmoor.example'] }, end: null })))).toEqual([])
    expect(await found({}, letter(await token({ claims: { sub: 'devices/kiln-7' }, end: null })))).toEqual([])
  })

  it('that nobody signed', async () => {
    const none = `${Buffer.from('{"alg":"none"}').toString('base64url')}.${Buffer.from('{"sub":"kiln-7"}').toString('base64url')}.`
    expect(await found({}, letter(none))).toEqual(['stop token-unsigned: The token is not signed'])
  })

  it('is signed by the key that was handed over with it, or by none of them', async () => {
    const good = letter(await token({ end: null }), `shared key: ${secret}`)
    expect(await found({}, good)).toEqual(['note token-signed: The token is signed by the shared key'])
    expect(await found({}, good.replace(secret, 'b3RoZXItb3RoZXItb3RoZXItb3RoZXItb3RoZXItb3RoZXI='))).toEqual([
      'warning token-key: None of the keys here signed the token',
    ])
    const key = createPrivateKey(m.text('kiln-7.key'))
    const byCurve = letter(await token({ end: null }, key as never, 'ES256'))
    m.openssl('pkey', '-in', 'kiln-7.key', '-pubout', '-out', 'kiln.pub')
    m.openssl('pkey', '-in', 'dryer-2.key', '-pubout', '-out', 'dryer.pub')
    expect(await found({ 'kiln.pub': m.text('kiln.pub') }, byCurve)).toEqual([
      'note token-signed: The token is signed by the public key from kiln.pub, public key 1',
    ])
    expect(await found({ 'dryer.pub': m.text('dryer.pub') }, byCurve)).toEqual(['warning token-key: None of the keys here signed the token'])
    expect(await found({ 'hall.crt': m.text('works-root.crt') }, byCurve)).toEqual([])
  })

  it('that is damaged, or of numbers that are no times, is told as far as it can be read', async () => {
    const odd = (header: string, body: string) => `${Buffer.from(header).toString('base64url')}.${Buffer.from(body).toString('base64url')}.c2ln`
    const of = async (text: string) => (await lookAt(handed({}, letter(text)), [], NOW)).pieces.find((p) => p.role === 'token')?.detail
    expect(await of(odd('{"alg":"HS256"}', '{"exp":1e300,"aud":[7,"hub.varnmoor.example"],"sub":{}}'))).toBe(
      'HS256, for hub.varnmoor.example, without an end',
    )
    expect(await of(odd('{"alg":"HS256"}', '["no claims"]'))).toMatch(/characters$/)
    expect(await of(odd('{"alg":"HS256"}', `{"exp":8640000000001}`))).toBe('HS256, without an end')
  })
})
