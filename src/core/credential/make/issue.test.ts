import { X509Certificate } from 'node:crypto'
import { beforeAll, describe, expect, it } from 'vitest'
import type { KeyKind } from '~/contract/make'
import { Maker } from '../../../../tests/kits/make'
import { certificateFindings, kitFindings } from '../intake/checks'
import { linkOf } from '../intake/kits'
import { type Authority, issue, type Leaf, makeAuthority, makeList, makeRequest } from './issue'

// As certificates have it: without parts of seconds.
const NOW = Math.floor(Date.now() / 1000) * 1000
const m = new Maker()
const works = { commonName: 'Varnmoor Works', organization: 'Varnmoor Clayworks' }
const leaf = (part: Partial<Leaf> = {}): Leaf => ({ ...works, commonName: 'kiln-7', key: 'P-256', use: 'client', hosts: [], ...part })
const kinds: KeyKind[] = ['P-256', 'P-384', 'RSA 2048']
const authorities = new Map<KeyKind, Authority>()

beforeAll(async () => {
  for (const key of kinds) {
    const made = await makeAuthority(works, { key, days: 3650, now: NOW })
    authorities.set(key, { certificate: made.text, key: made.key })
    m.write(`ca-${key}.crt`, made.text)
  }
}, 60_000)

describe.each(kinds)('an authority with a key of %s', (kind) => {
  const by = () => authorities.get(kind)!

  it('and what it signs are read and trusted by openssl', async () => {
    for (const key of kinds) {
      const made = await issue(by(), leaf({ key, use: 'both', hosts: ['broker.varnmoor.example', '*.hall.example', '10.0.0.7', 'fd00::7'] }), {
        days: 90,
        now: NOW,
      })
      m.write('leaf.crt', made.text)
      m.write('leaf.key', made.key)
      m.openssl('verify', '-x509_strict', '-purpose', 'sslclient', '-CAfile', `ca-${kind}.crt`, 'leaf.crt')
      m.openssl('verify', '-x509_strict', '-purpose', 'sslserver', '-verify_hostname', 'oven.hall.example', '-CAfile', `ca-${kind}.crt`, 'leaf.crt')
      m.openssl('verify', '-verify_ip', 'fd00::7', '-CAfile', `ca-${kind}.crt`, 'leaf.crt')
      m.openssl('pkey', '-in', 'leaf.key', '-noout', '-check')
      const read = new X509Certificate(made.text)
      expect(read.serialNumber.toLowerCase()).toBe(made.serial)
      expect(read.subject).toBe('CN=kiln-7\nO=Varnmoor Clayworks')
    }
  })

  it('nothing speaks against either by the checks of what is handed over', async () => {
    const made = await issue(by(), leaf(), { days: 90, now: NOW })
    const link = (pem: string) => linkOf(new Uint8Array(new X509Certificate(pem).raw), 'here')!
    const [own, root] = [link(made.text), link(by().certificate)]
    expect(certificateFindings(own, 'client', NOW)).toEqual([])
    expect(certificateFindings(root, 'authority', NOW)).toEqual([])
    expect(kitFindings({ own, key: { from: '', pem: '', spki: own.spki }, chain: [], root }, [own])).toEqual([])
  })

  it('takes back what it signed, by a list that openssl goes by', async () => {
    const [good, bad] = [await issue(by(), leaf(), { days: 90, now: NOW }), await issue(by(), leaf(), { days: 90, now: NOW })]
    m.write('good.crt', good.text)
    m.write('bad.crt', bad.text)
    m.write('list.crl', await makeList(by(), [{ serial: bad.serial, at: new Date(NOW), reason: 'keyCompromise' }], NOW))
    const verify = (name: string) => m.openssl('verify', '-crl_check', '-CAfile', `ca-${kind}.crt`, '-CRLfile', 'list.crl', name)
    verify('good.crt')
    expect(() => verify('bad.crt')).toThrow(/revoked/)
    m.write('list.crl', await makeList(by(), [], NOW))
    verify('bad.crt')
  })

  it('a signing request is whole, and says what is wanted', async () => {
    const made = await makeRequest(leaf({ key: kind, use: 'server', hosts: ['broker.varnmoor.example'] }))
    m.write('wanted.csr', made.text)
    m.openssl('req', '-in', 'wanted.csr', '-verify', '-noout')
    m.openssl('req', '-in', 'wanted.csr', '-noout', '-text', '-out', 'wanted.txt')
    expect(m.text('wanted.txt')).toContain('DNS:broker.varnmoor.example')
  })
})

it('nothing outlives its authority', async () => {
  const short = await makeAuthority(works, { key: 'P-256', days: 30, now: NOW })
  const by = { certificate: short.text, key: short.key }
  await expect(issue(by, leaf(), { days: 31, now: NOW })).rejects.toMatchObject({ field: 'days', message: 'The authority itself ends in 30 days' })
  expect(new X509Certificate((await issue(by, leaf(), { days: 30, now: NOW })).text).validTo).toBe(new X509Certificate(short.text).validTo)
})

it('an authority signs no further authorities', async () => {
  const by = authorities.get('P-256')!
  expect(new X509Certificate((await issue(by, leaf(), { days: 9, now: NOW })).text).ca).toBe(false)
  m.write('p.crt', by.certificate)
  m.openssl('x509', '-in', 'p.crt', '-noout', '-text', '-out', 'p.txt')
  expect(m.text('p.txt')).toContain('CA:TRUE, pathlen:0')
})

it.each(['a, "b" + c=d\\ #e; <f>', ' leads', 'Brennöfen 窯 🧱', '__proto__', "O'Neil / x", 'x'.repeat(64), '\u2028'])(
  '%s is whom it is for, as it was typed',
  async (commonName) => {
    const by = authorities.get('P-256')!
    const made = await issue(by, leaf({ commonName, organization: commonName }), { days: 9, now: NOW })
    const own = linkOf(new Uint8Array(new X509Certificate(made.text).raw), 'here')!
    expect(own.certificate.subjectName.getField('CN')).toEqual([commonName])
    m.write('odd.crt', made.text)
    m.openssl('verify', '-CAfile', 'ca-P-256.crt', 'odd.crt')
    const request = await makeRequest(leaf({ commonName }))
    m.write('odd.csr', request.text)
    m.openssl('req', '-in', 'odd.csr', '-verify', '-noout')
  },
)
