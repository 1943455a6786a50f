import { createPrivateKey } from 'node:crypto'
import { afterEach, expect, it } from 'vitest'
import { certificateFacts } from '~/core/credential/certificate'
import { sorted } from '~/core/credential/intake/kits'
import { type Authority, issue, type Leaf, makeAuthority, makeList, makeRequest } from '~/core/credential/make/issue'
import { opened } from '~/server/intake/keys'
import { takeIn } from '~/server/intake/take-in'
import { Broker } from '~/standins/broker/broker'
import { brokerUsers } from '~/standins/plant'
import { addCredential, listCredentials } from '~/store/credential'
import { addDestination } from '~/store/destination'
import { addIssued, answerRequest, type Listed, listIssued, takeBack } from '~/store/issued'
import { Maker } from '../kits/make'
import { scene } from './scene'
import { freePort, until } from './support'

let s: Awaited<ReturnType<typeof scene>>
let broker: Broker | null = null
afterEach(async () => {
  await s.end()
  await broker?.stop()
  broker = null
})

const DAYS = 90
const leaf = (commonName: string, part: Partial<Leaf> = {}): Leaf => ({
  commonName,
  organization: 'Varnmoor Clayworks',
  key: 'P-256',
  use: 'client',
  hosts: [],
  ...part,
})

/** An authority that is kept, and what it does. */
async function authority() {
  const { t } = s
  const made = await makeAuthority(leaf('Plant authority'), { key: 'P-256', days: 900, now: Date.now() })
  const by: Authority = { certificate: made.text, key: made.key }
  const facts = await certificateFacts(made.text)
  const kept = await addCredential(t.db, t.vault, { name: 'Plant', kind: 'authority', certificate: made.text, facts, user: null, secret: made.key })
  const listed: Listed = async (all) => {
    const certificate = by.certificate + (await makeList(by, all, Date.now()))
    return { certificate, facts: await certificateFacts(certificate) }
  }
  return {
    ...{ by, id: kept.id, issues: kept.issues },
    async issue(wanted: Leaf) {
      const { text, key, serial, notAfter } = await issue(by, wanted, { days: DAYS, now: Date.now() })
      const facts = await certificateFacts(text)
      const content = {
        name: `${wanted.commonName} ${serial.slice(0, 6)}`,
        kind: 'certificate' as const,
        certificate: text,
        facts,
        user: null,
        secret: key,
      }
      const kept = await addIssued(t.db, t.vault, content, { authorityId: this.id, serial, subject: facts.subject, notAfter })
      return { id: kept.id, serial, certificate: text, key }
    },
    takeBack: (serial: string) => takeBack(t.db, kept.id, { serial, reason: 'superseded' }, listed),
  }
}

it('an authority of the plant signs broker and clients, which trust each other by it; what it takes back is not trusted any more', async () => {
  s = await scene()
  const { t, engine } = s
  const plant = await authority()
  expect(plant.issues).toBe(true)
  const [server, sender, witness] = [
    await plant.issue(leaf('broker', { use: 'server', hosts: ['127.0.0.1'] })),
    await plant.issue(leaf('embrik')),
    await plant.issue(leaf('witness')),
  ]
  const ports = { plain: await freePort(), tls: await freePort(), mutual: await freePort() }
  broker = await Broker.start({
    ports,
    host: '127.0.0.1',
    ca: plant.by.certificate,
    certificate: server.certificate,
    key: server.key,
    users: brokerUsers,
  })
  const own = { clientId: 'of-plant', witnessClientId: 'of-plant-reads', port: ports.mutual, authorityId: plant.id }
  const settings = { ...s.settings, ...own, credentialId: sender.id, witnessCredentialId: witness.id }
  const { id } = await addDestination(t.db, { name: 'Of the plant', kind: 'mqtt', enabled: true, settings })
  const there = () => engine.destinations.get(id)
  await until(() => there()?.present().state === 'running' && there()!.witness?.view(), 'both to be connected')
  expect((await listIssued(t.db, plant.id)).map((c) => c.takenBackAt)).toEqual([null, null, null])

  await plant.takeBack(server.serial)
  await until(
    () => there()!.present().state === 'trouble' && /taken back by its authority/.test(there()!.present().reason),
    () => JSON.stringify(there()!.present()),
  )
  // What does not go by that authority goes on.
  expect(s.destination().present().state).toBe('running')
  const [told] = (await listIssued(t.db, plant.id)).filter((c) => c.serial === server.serial)
  expect(told).toMatchObject({ reason: 'superseded', takenBackAt: expect.any(String) })
  await expect(plant.takeBack(server.serial)).rejects.toMatchObject({ failure: { code: 'issued.unknown' } })
})

it('several taken back at once all stand on the list', async () => {
  s = await scene({ still: true })
  const plant = await authority()
  const all = await Promise.all(['a', 'b', 'c', 'd'].map((name) => plant.issue(leaf(name))))
  await Promise.all(all.slice(1).map(({ serial }) => plant.takeBack(serial)))
  const kept = (await listCredentials(s.t.db)).find((c) => c.id === plant.id)!
  const m = new Maker()
  m.write('plant.crt', plant.by.certificate)
  m.write('plant.crl', kept.certificate!.slice(kept.certificate!.indexOf('-----BEGIN X509 CRL')))
  const verify = (pem: string) => {
    m.write('one.crt', pem)
    m.openssl('verify', '-crl_check', '-CAfile', 'plant.crt', '-CRLfile', 'plant.crl', 'one.crt')
  }
  verify(all[0]!.certificate)
  for (const one of all.slice(1)) expect(() => verify(one.certificate)).toThrow(/revoked/)
})

it('a signing request that openssl signs becomes a certificate with its chain, by its key and no other', async () => {
  s = await scene({ still: true })
  const { t } = s
  const made = await makeRequest(leaf('press-hall', { key: 'RSA 2048' }))
  const content = { name: 'Press hall', kind: 'request' as const, certificate: made.text, facts: null, user: 'press-hall', secret: made.key }
  const { id } = await addCredential(t.db, t.vault, content)
  const m = new Maker()
  m.certificate('their-root', { extensions: 'basicConstraints=critical,CA:TRUE' })
  m.certificate('their-own', { by: 'their-root' })
  m.write('wanted.csr', made.text)
  m.openssl(
    'x509',
    '-req',
    '-in',
    'wanted.csr',
    '-CA',
    'their-root.crt',
    '-CAkey',
    'their-root.key',
    '-CAcreateserial',
    '-days',
    '90',
    '-copy_extensions',
    'copy',
    '-out',
    'answer.crt',
  )
  const file = (name: string) => ({ name, octets: m.read(name) })
  const kits = async (...names: string[]) =>
    (await sorted((await takeIn(names.map(file), [])).links, [opened(createPrivateKey(made.key), 'the request')])).kits
  expect(await kits('their-own.crt', 'their-root.crt')).toEqual([])
  const [kit] = await kits('their-own.crt', 'answer.crt', 'their-root.crt')
  expect(kit!.own.certificate.subject).toContain('press-hall')
  expect(kit!.root).not.toBeNull()
  const certificate = m.text('answer.crt')
  const answered = await answerRequest(t.db, id, { certificate, facts: await certificateFacts(certificate) })
  expect(answered).toMatchObject({ kind: 'certificate', user: null, facts: { key: 'RSA 2048' } })
  await expect(answerRequest(t.db, id, { certificate, facts: await certificateFacts(certificate) })).rejects.toMatchObject({
    failure: { code: 'request.answered' },
  })
})
