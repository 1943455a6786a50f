import { createPrivateKey, X509Certificate } from 'node:crypto'
import { beforeAll, describe, expect, it } from 'vitest'
import { HandedOver, KeepHanded } from '~/contract/intake'
import { type Maker, plantKit } from '../../../tests/kits/make'
import { lookAt, toKeep } from './offers'

let m: Maker
beforeAll(() => {
  m = plantKit()
}, 60_000)

// What is made here in a moment is valid then.
const NOW = Date.now() + 3_600_000
const YEARS = 366 * 86_400_000
const content = (octets: Uint8Array | string) => Buffer.from(octets as string).toString('base64')
const handed = (files: Record<string, Uint8Array | string>, part: object = {}) =>
  HandedOver.parse({ files: Object.entries(files).map(([name, octets]) => ({ name, content: content(octets) })), ...part })
const whole = () =>
  handed(
    { 'device.pem': m.text('kiln-7.crt') + m.text('kiln-7.key'), 'chain.pem': m.text('works-root.crt') + m.text('works-between.crt') },
    { text: 'Broker: mqtts://broker.varnmoor.example:8884\nuser: kiln-7\npassword: Glaze-and-slip-7' },
  )

describe('what is told of what was handed over', () => {
  it('names, dates and addresses, and nothing that is secret', async () => {
    const told = await lookAt(whole(), [], NOW)
    expect(told.address).toEqual({
      host: 'broker.varnmoor.example',
      port: 8884,
      scheme: 'mqtts',
      path: null,
      identity: null,
      events: null,
      eventsTopic: null,
    })
    expect(told.offers.map(({ kind, name, user }) => [kind, name, user])).toEqual([
      ['certificate', 'kiln-7', null],
      ['authority', 'works-root', null],
      ['password', 'kiln-7 at broker.varnmoor.example', 'kiln-7'],
    ])
    expect(told.offers[0]!.facts).toMatchObject({ chain: 2, key: 'ECDSA P-256' })
    expect(told.pieces.map((p) => `${p.state} ${p.what} ${p.name}`)).toEqual([
      'taken certificate with its key kiln-7',
      'taken link of the chain works-between',
      'taken authority works-root',
      'taken protocol Broker',
      'taken host Broker',
      'taken port Broker',
      'taken user user',
      'taken password password',
    ])
    const text = JSON.stringify(told)
    expect(text).not.toContain('Glaze-and-slip-7')
    expect(text).not.toContain('PRIVATE KEY')
    expect(text).not.toContain(m.text('kiln-7.key').split('\n')[1])
    expect(told.findings).toEqual([])
  })

  it('what is locked asks for its pass phrase, and says when none fits', async () => {
    m.openssl('pkcs12', '-export', '-in', 'kiln-7.crt', '-inkey', 'kiln-7.key', '-passout', 'pass:glaze', '-out', 'kiln.p12')
    const files = { 'kiln.p12': m.read('kiln.p12') }
    expect(await lookAt(handed(files), [], NOW)).toMatchObject({
      locked: true,
      offers: [],
      pieces: [{ state: 'locked', detail: 'asks for a pass phrase' }],
    })
    expect(await lookAt(handed(files, { phrases: ['slip'] }), [], NOW)).toMatchObject({
      locked: true,
      pieces: [{ detail: 'none of the pass phrases opens it' }],
    })
    expect(await lookAt(handed(files, { phrases: ['slip', 'glaze'] }), [], NOW)).toMatchObject({ locked: false, offers: [{ name: 'kiln-7' }] })
  })

  it('a store that asks to hash the pass phrase for hours is refused at once', { timeout: 120_000 }, async () => {
    const made = ['pkcs8', '-topk8', '-v2', 'aes-256-cbc', '-iter', '3000000', '-passout', 'pass:glaze', '-in', 'kiln-7.key', '-out', 'slow.pem']
    m.openssl(...made)
    const told = await lookAt(handed({ 'slow.pem': m.text('slow.pem') }, { phrases: ['a', 'b', 'c'] }), [], NOW)
    expect(told.pieces).toMatchObject([{ state: 'broken', detail: expect.stringContaining('takes too long') }])
  })

  it('all that is locked is paid from one purse, in whatever order it stands', { timeout: 120_000 }, async () => {
    m.openssl('pkcs8', '-topk8', '-v2', 'aes-256-cbc', '-iter', '1500000', '-passout', 'pass:glaze', '-in', 'kiln-7.key', '-out', 'dear.pem')
    const files = Object.fromEntries(Array.from({ length: 6 }, (_, i) => [`${i}.pem`, m.text('dear.pem')]))
    const told = await lookAt(handed(files, { phrases: ['slip'] }), [], NOW)
    expect(told.pieces.map((p) => p.state)).toEqual(['locked', 'locked', 'broken', 'broken', 'broken', 'broken'])
  })

  it('what is not known is not told whole: it may be secret', async () => {
    const told = await lookAt(handed({}, { text: 'entry code: Glaze-and-slip-7\nport: 8883' }), [], NOW)
    expect(told.pieces.map((p) => p.detail)).toEqual(['Gl..., 16 characters', '8883'])
    const wrongly = await lookAt(handed({}, { text: 'entry code: Glaze-and-slip-7', roles: { 'word 1': 'port' } }), [], NOW)
    expect(wrongly.address.port).toBeNull()
  })

  it('a word that was taken wrongly is what somebody says it is', async () => {
    const text = 'access code: Glaze-and-slip-7\nmachine: kiln-7'
    const first = await lookAt(handed({}, { text }), [], NOW)
    expect(first.pieces.map((p) => [p.id, p.state, p.role])).toEqual([
      ['word 1', 'left', 'other'],
      ['word 2', 'left', 'other'],
    ])
    const corrected = handed({}, { text, roles: { 'word 1': 'password', 'word 2': 'user' } })
    expect((await lookAt(corrected, [], NOW)).offers).toMatchObject([{ kind: 'password', user: 'kiln-7' }])
    expect(await toKeep(KeepHanded.parse({ ...corrected, keep: [{ id: 'log-in', name: 'Kiln' }] }))).toMatchObject([
      { kind: 'password', name: 'Kiln', user: 'kiln-7', secret: 'Glaze-and-slip-7' },
    ])
  })
})

describe('what speaks against a certificate', () => {
  const AUTHORITY = 'basicConstraints=critical,CA:TRUE\nkeyUsage=critical,keyCertSign'
  const found = async (files: Record<string, Uint8Array | string>, now = NOW) =>
    (await lookAt(handed(files), [], now)).findings.map((f) => `${f.severity} ${f.code.slice(11)}`)
  const own = (name: string) => m.text(`${name}.crt`) + m.text(`${name}.key`)

  it('its dates', async () => {
    const files = { 'a.pem': own('kiln-7') + m.text('works-between.crt') + m.text('works-root.crt') }
    expect(await found(files)).toEqual([])
    expect(await found(files, NOW + 380 * 86_400_000)).toEqual(['warning ends-soon', 'warning ends-soon', 'warning ends-soon'])
    expect(await found(files, NOW + 2 * YEARS)).toEqual(['stop expired', 'stop expired', 'stop expired'])
    expect(await found(files, NOW - YEARS)).toEqual(['stop not-yet', 'stop not-yet', 'stop not-yet'])
  })

  it('its key, its signature and its uses', async () => {
    m.certificate('short', { by: 'works-root', key: ['-algorithm', 'RSA', '-pkeyopt', 'rsa_keygen_bits:1024'] })
    m.certificate('sha1', { by: 'works-root', digest: 'sha1', key: ['-algorithm', 'RSA', '-pkeyopt', 'rsa_keygen_bits:2048'] })
    m.certificate('only-server', { by: 'works-root', extensions: 'basicConstraints=CA:FALSE\nextendedKeyUsage=serverAuth' })
    m.certificate('only-lists', { by: 'works-root', extensions: 'basicConstraints=CA:FALSE\nkeyUsage=cRLSign' })
    m.certificate('as-client', { by: 'works-root', extensions: AUTHORITY })
    const root = m.text('works-root.crt')
    expect(await found({ a: own('short') + root })).toEqual(['stop short-key'])
    expect(await found({ a: own('sha1') + root })).toEqual(['stop old-signature'])
    expect(await found({ a: own('only-server') + root })).toEqual(['stop other-purpose'])
    expect(await found({ a: own('only-lists') + root })).toEqual(['stop key-usage'])
    expect(await found({ a: own('as-client') + root })).toEqual(['warning is-authority', 'stop key-usage'])
  })

  it('its chain: open, out of order, signed by itself, by one that may not', async () => {
    expect(await found({ a: own('kiln-7') })).toEqual(['note chain-open'])
    expect(await found({ a: own('kiln-7') + m.text('works-between.crt') })).toEqual(['note chain-open'])
    expect(await found({ a: m.text('works-between.crt') + own('kiln-7') + m.text('works-root.crt') })).toEqual(['note chain-order'])
    m.certificate('alone', {})
    expect(await found({ a: own('alone') })).toEqual(['note self-signed'])
    m.certificate('no-signer', { by: 'works-root', extensions: 'basicConstraints=critical,CA:TRUE\nkeyUsage=critical,cRLSign' })
    m.certificate('signed-wrongly', { by: 'no-signer' })
    expect(await found({ a: own('signed-wrongly') + m.text('no-signer.crt') + m.text('works-root.crt') })).toEqual(['stop may-not-sign'])
  })

  it('a certificate of another with the same name as the issuer does not count as it', async () => {
    m.certificate('impostor', { extensions: AUTHORITY })
    m.openssl(
      'req',
      '-new',
      '-x509',
      '-key',
      'impostor.key',
      '-subj',
      '/O=Varnmoor Clayworks/CN=works-root',
      '-days',
      '400',
      '-out',
      'impostor-root.crt',
    )
    const told = await lookAt(handed({ a: own('dryer-2'), b: m.text('impostor-root.crt') }), [], NOW)
    expect(told.findings.map((f) => f.code)).toEqual(['credential.chain-open'])
  })
})

it('what is kept already is known again', async () => {
  const [certificate, authority] = (await lookAt(whole(), [], NOW)).offers
  const known = [
    { id: 'a', kind: 'password' as const, facts: null },
    { id: 'b', kind: 'authority' as const, facts: authority!.facts },
    { id: 'c', kind: 'authority' as const, facts: certificate!.facts },
  ]
  expect((await lookAt(whole(), known, NOW)).offers.map(({ kind, there }) => [kind, there])).toEqual([
    ['certificate', null],
    ['authority', 'b'],
    ['password', null],
  ])
})

describe('what is kept', () => {
  it('a certificate with its chain in order and its key opened, an authority, a log-in', async () => {
    const told = await lookAt(whole(), [], NOW)
    const keep = told.offers.map(({ id, name }) => ({ id, name }))
    const kept = await toKeep(KeepHanded.parse({ ...whole(), keep, places: ['mqtts://broker.varnmoor.example:8884'] }))
    const [certificate, authority, login] = kept
    const chain = certificate!
      .certificate!.match(/-----BEGIN[\s\S]*?-----END CERTIFICATE-----/g)!
      .map((pem) => new X509Certificate(pem).subject.split('\n')[1])
    expect(chain).toEqual(['CN=kiln-7', 'CN=works-between'])
    expect(new X509Certificate(certificate!.certificate!).checkPrivateKey(createPrivateKey(certificate!.secret!))).toBe(true)
    expect(new X509Certificate(authority!.certificate!).ca).toBe(true)
    expect(login).toMatchObject({ user: 'kiln-7', secret: 'Glaze-and-slip-7', places: ['mqtts://broker.varnmoor.example:8884'] })
  })

  it('what nobody could type is not kept either', async () => {
    for (const [user, words] of [
      [`kiln${'7'.repeat(300)}`, 'Too big'],
      ['kiln\u00007', 'control characters'],
    ] as const) {
      const text = JSON.stringify({ user, password: 'Glaze-and-slip-7' })
      const keep = KeepHanded.parse({ ...handed({}, { text }), keep: [{ id: 'log-in', name: 'Kiln' }] })
      await expect(toKeep(keep)).rejects.toMatchObject({ failure: { fields: { user: expect.stringContaining(words) } } })
    }
  })

  it('nothing, where something is not there or two have one name', async () => {
    const told = await lookAt(whole(), [], NOW)
    const [one, other] = told.offers
    const keeping = (keep: object[]) => toKeep(KeepHanded.parse({ ...whole(), keep }))
    await expect(keeping([{ id: 'certificate 00', name: 'a' }])).rejects.toThrow('not among what was handed over')
    await expect(keeping([one!, other!].map(({ id }) => ({ id, name: 'same' })))).rejects.toMatchObject({
      failure: { fields: { 'keep.1.name': expect.any(String) } },
    })
  })
})
