import { afterEach, expect, it } from 'vitest'
import { newId } from '~/contract/id'
import { certificateFacts } from '~/core/credential/certificate'
import { type Authority, issue, makeAuthority } from '~/core/credential/make/issue'
import { Broker } from '~/standins/broker/broker'
import { brokerUsers } from '~/standins/plant'
import { addCredential, listCredentials, type NewCredential } from '~/store/credential'
import { addDestination } from '~/store/destination'
import { addIssued, listIssued } from '~/store/issued'
import { setRenewal } from '~/store/renewal'
import { putBack, replaceCredential } from '~/store/replacement'
import { scene } from './scene'
import { certificates, freePort, until } from './support'

type Scene = Awaited<ReturnType<typeof scene>>
let s: Scene
let broker: Broker | null = null
afterEach(async () => {
  await s.end()
  await broker?.stop()
  broker = null
})

const DAY_MS = 86_400_000

/** An authority that is kept here, and certificates of it that end in five days. */
async function plant() {
  const { t } = s
  const { text, key } = await makeAuthority({ commonName: 'Plant', organization: '' }, { key: 'P-256', days: 3650, now: Date.now() - 800 * DAY_MS })
  const by: Authority = { certificate: text, key }
  const kept = await addCredential(t.db, t.vault, {
    name: 'Plant',
    kind: 'authority',
    certificate: text,
    facts: await certificateFacts(text),
    user: null,
    secret: key,
  })
  const sign = async (name: string, hosts: string[] = []) => {
    const leaf = {
      commonName: name,
      organization: '',
      key: 'P-256' as const,
      use: hosts.length > 0 ? ('server' as const) : ('client' as const),
      hosts,
    }
    const made = await issue(by, leaf, { days: 365, now: Date.now() - 360 * DAY_MS })
    const facts = await certificateFacts(made.text)
    const content: NewCredential = { name: `${name} of the plant`, kind: 'certificate', certificate: made.text, facts, user: null, secret: made.key }
    const one = await addIssued(t.db, t.vault, content, {
      authorityId: kept.id,
      serial: made.serial,
      subject: facts.subject,
      notAfter: made.notAfter,
    })
    return { ...made, id: one.id, facts }
  }
  return { id: kept.id, by, sign }
}
const held = async (id: string) => (await listCredentials(s.t.db)).find((c) => c.id === id)!
const renewals = async () => {
  await s.engine.renewal.look()
  return (await s.events()).filter((e) => e.code.startsWith('renewal.'))
}

it('what is due is made again alike, tried with what uses it, and taken up; the old one is kept, and nothing is done twice', async () => {
  s = await scene()
  const { t, engine } = s
  const { id: authorityId, by, sign } = await plant()
  const [server, sender, witness] = [await sign('broker', ['127.0.0.1']), await sign('embrik'), await sign('witness')]
  const ports = { plain: await freePort(), tls: await freePort(), mutual: await freePort() }
  const { text: certificate, key } = server
  broker = await Broker.start({ ports, host: '127.0.0.1', ca: by.certificate, certificate, key, users: brokerUsers })
  const own = { clientId: 'of-plant', witnessClientId: 'of-plant-reads', port: ports.mutual, authorityId }
  const settings = { ...s.settings, ...own, credentialId: sender.id, witnessCredentialId: witness.id }
  const { id } = await addDestination(t.db, { name: 'Of the plant', kind: 'mqtt', enabled: true, settings })
  await until(() => engine.destinations.get(id)?.witness?.view(), 'both to be connected')
  // Nobody asked for it.
  expect(await renewals()).toEqual([])
  await setRenewal(t.db, sender.id, 30)
  expect(await renewals()).toMatchObject([{ code: 'renewal.done', subject: 'embrik of the plant' }])
  const now = await held(sender.id)
  expect(now.facts).toMatchObject({ subject: sender.facts.subject, issuer: sender.facts.issuer, key: sender.facts.key })
  expect(Date.parse(now.facts!.notAfter) - Date.now()).toBeGreaterThan(364 * DAY_MS)
  expect(now.before!.facts!.sha256).toBe(sender.facts.sha256)
  expect(now.ownSigned).toBe(true)
  const shown = () => [...broker!.connections].map((c) => c.certificate)
  await until(() => shown().includes(now.facts!.sha256), 'the new one at the broker')
  expect((await listIssued(t.db, authorityId)).map((c) => c.serial)).toContain(now.facts!.serial)
  expect((await renewals()).length).toBe(1)
  // Put back by hand it stays so.
  await putBack(t.db, sender.id)
  expect(await held(sender.id)).toMatchObject({ renewDays: null, facts: { sha256: sender.facts.sha256 } })
  expect((await renewals()).length).toBe(1)
})

it('one that a user of it does not take is not taken up, and told once a day', async () => {
  s = await scene()
  const { t } = s
  const { sign } = await plant()
  // The broker of the scene does not know this authority.
  const one = await sign('embrik')
  const settings = { ...s.settings, clientId: 'other', credentialId: one.id, witness: false, witnessCredentialId: null }
  await addDestination(t.db, { name: 'Another', kind: 'mqtt', enabled: true, settings })
  await setRenewal(t.db, one.id, 30)
  expect(await renewals()).toMatchObject([
    { code: 'renewal.failed', severity: 'trouble', message: expect.stringContaining('Another could not connect') },
  ])
  expect((await held(one.id)).facts!.sha256).toBe(one.facts.sha256)
  expect((await renewals()).length).toBe(1)
})

it('only what was signed here renews itself, and no more once something else took its place', async () => {
  s = await scene()
  const { t } = s
  const { sign } = await plant()
  const one = await sign('embrik')
  await expect(setRenewal(t.db, s.settings.credentialId!, 30)).rejects.toMatchObject({ failure: { code: 'renewal.signer' } })
  await expect(setRenewal(t.db, newId(), 30)).rejects.toMatchObject({ status: 404 })
  await setRenewal(t.db, one.id, 30)
  const { certificate, key } = (await certificates()).clients['embrik-next']!
  const foreign = { kind: 'certificate' as const, certificate, facts: await certificateFacts(certificate), user: null, secret: key }
  await replaceCredential(t.db, t.vault, one.id, foreign)
  expect(await held(one.id)).toMatchObject({ renewDays: null, ownSigned: false })
  expect(await renewals()).toEqual([])
})

it('an authority whose key is gone is told', async () => {
  s = await scene()
  const { t } = s
  const { id, sign } = await plant()
  const one = await sign('embrik')
  await setRenewal(t.db, one.id, 30)
  await t.db.updateTable('credential').set({ secret: null }).where('id', '=', id).execute()
  expect(await renewals()).toMatchObject([{ code: 'renewal.failed', message: expect.stringContaining('is not here any more') }])
})
