import { sql } from 'kysely'
import { afterEach, expect, it } from 'vitest'
import type { CheckStep } from '~/contract/failure'
import { certificateFacts } from '~/core/credential/certificate'
import { mqttDriver } from '~/engine/destinations/mqtt/driver'
import { addCredential, listCredentials, type NewCredential } from '~/store/credential'
import { addDestination } from '~/store/destination'
import { forgetBefore, putBack, replaceCredential } from '~/store/replacement'
import { addSource } from '~/store/source'
import { Maker } from '../kits/make'
import { scene } from './scene'
import { certificates, until } from './support'

type Scene = Awaited<ReturnType<typeof scene>>
let s: Scene
afterEach(() => s.end())

async function certificate(of: string | { certificate: string; key: string }): Promise<NewCredential> {
  const { certificate, key } = typeof of === 'string' ? (await certificates()).clients[of]! : of
  return { name: 'new', kind: 'certificate', certificate, facts: await certificateFacts(certificate), user: null, secret: key }
}
/** Which certificates clients show at the broker now. */
const shown = () => [...s.b.broker.connections].map((c) => c.certificate).sort()
const sha256 = async (name: string) => (await certificate(name)).facts!.sha256

it('certificates of sender and witness are replaced under 500 messages a second, both at once: all arrives, once each', async () => {
  s = await scene({ zones: 5, publication: { topic: 'varnmoor/replaced/{unit}' } })
  const { t, engine } = s
  const still = s.feed(10)
  await until(() => s.counts()!.arrived > 500, 'messages to flow')
  await replaceCredential(t.db, t.vault, s.settings.credentialId!, await certificate('embrik-next'))
  await replaceCredential(t.db, t.vault, s.settings.witnessCredentialId!, await certificate('witness-next'))
  const wanted = [await sha256('embrik-next'), await sha256('witness-next')].sort()
  await until(
    () => JSON.stringify(shown()) === JSON.stringify(wanted),
    () => `the new ones at the broker: ${shown()}`,
  )
  const then = s.counts()!.arrived
  await until(() => s.counts()!.arrived > then + 500, 'messages to flow on')
  // And back, which is a replacement like any other.
  await putBack(t.db, s.settings.credentialId!)
  const back = [await sha256('embrik'), await sha256('witness-next')].sort()
  await until(
    () => JSON.stringify(shown()) === JSON.stringify(back),
    () => `the old one at the broker: ${shown()}`,
  )
  await until(() => s.counts()!.arrived > then + 1000, 'messages to flow on')
  still()
  await s.settled()
  const counts = s.counts()!
  expect(counts).toMatchObject({ missing: 0, unknown: 0, rejected: 0, disordered: 0, altered: 0 })
  expect(counts.arrived).toBe(counts.produced)
  // What the broker wrote down itself, message by message.
  const told = engine.ledger.account(s.delivery()).counts()
  expect(told.doubled).toBe(0)
  expect((await s.events()).filter((e) => e.severity === 'trouble')).toEqual([])
})

it('one that the broker does not know waits with everything in the outbox until the old one is put back', async () => {
  s = await scene()
  const { t } = s
  const m = new Maker()
  m.certificate('stranger')
  const still = s.feed(20)
  await until(() => s.counts()!.arrived > 50, 'messages to flow')
  await replaceCredential(
    t.db,
    t.vault,
    s.settings.credentialId!,
    await certificate({ certificate: m.text('stranger.crt'), key: m.text('stranger.key') }),
  )
  await until(() => s.destination().present().state === 'trouble' && s.destination().outbox.waiting > 50, 'messages to wait')
  const [one] = (await listCredentials(t.db)).filter((c) => c.id === s.settings.credentialId)
  expect(one!.before!.facts!.sha256).toBe(await sha256('embrik'))
  await putBack(t.db, s.settings.credentialId!)
  await s.up()
  still()
  await s.settled()
  expect(s.counts()).toMatchObject({ missing: 0, unknown: 0, rejected: 0 })
  expect(s.counts()!.arrived).toBe(s.counts()!.produced)
})

it('what does not use it, and what was put back the same, keeps its connection', async () => {
  s = await scene()
  const { t } = s
  const other = await addCredential(t.db, t.vault, { ...(await certificate('reader')), name: 'other' })
  const settings = { ...s.settings, clientId: 'other', credentialId: other.id, witness: false, witnessCredentialId: null }
  await addDestination(t.db, { name: 'Other', kind: 'mqtt', enabled: true, settings })
  await until(() => s.b.broker.connections.size === 3, 'the other to be up')
  const before = new Set(s.b.broker.connections)
  await replaceCredential(t.db, t.vault, other.id, await certificate('embrik-next'))
  await until(async () => shown().includes(await sha256('embrik-next')) && s.b.broker.connections.size === 3, 'the other to come anew')
  expect([...s.b.broker.connections].filter((c) => before.has(c)).length).toBe(2)
  // The same once more: nothing is done.
  await forgetBefore(t.db, other.id)
  const now = new Set(s.b.broker.connections)
  await replaceCredential(t.db, t.vault, other.id, await certificate('embrik-next'))
  // That it was looked at is seen by what is replaced after it.
  await replaceCredential(t.db, t.vault, s.settings.witnessCredentialId!, await certificate('witness-next'))
  await until(async () => shown().includes(await sha256('witness-next')) && s.b.broker.connections.size === 3, 'the witness to come anew')
  expect([...s.b.broker.connections].filter((c) => now.has(c)).length).toBe(2)
})

it('what was replaced while nobody heard of it is taken up when the engine listens again', async () => {
  s = await scene()
  const { t } = s
  const cut = () =>
    sql`select pg_terminate_backend(pid) from pg_stat_activity where application_name = 'embrik listen' and datname = current_database()`.execute(
      t.db,
    )
  await cut()
  await replaceCredential(t.db, t.vault, s.settings.credentialId!, await certificate('embrik-next'))
  await until(
    async () => shown().includes(await sha256('embrik-next')),
    () => `the new one at the broker: ${shown()}`,
  )
})

it('a credential that cannot be opened any more leaves what is connected as it is', async () => {
  s = await scene()
  const { t } = s
  const now = new Set(s.b.broker.connections)
  await t.db
    .updateTable('credential')
    .set({ secret: Buffer.from('damaged') })
    .where('id', '=', s.settings.credentialId!)
    .execute()
  // That the news was heard is seen by what is replaced with it.
  await replaceCredential(t.db, t.vault, s.settings.witnessCredentialId!, await certificate('witness-next'))
  await until(() => s.b.broker.connections.size === 2 && s.change(), 'both to be there')
  await s.settled()
  expect([...s.b.broker.connections].filter((c) => now.has(c)).map((c) => c.certificate)).toContain(await sha256('embrik'))
})

it('a source that logs in by it connects anew; one that does not stays', async () => {
  s = await scene()
  const { t, engine } = s
  const login = await addCredential(t.db, t.vault, {
    name: 'login',
    kind: 'password',
    certificate: null,
    facts: null,
    user: 'reader',
    secret: 'clay-reader-3',
  })
  const at = { host: '127.0.0.1', port: s.b.ports.plain, protocol: '5' as const, tls: false, authorityId: null, keepAliveS: 30, retryMs: 200 }
  const topics = { clientId: 'topics', filters: 'varnmoor/#', credentialId: login.id, rateMs: 200, qos: 1 as const, staleS: 0 }
  const bySource = await addSource(t.db, t.vault, { kind: 'mqtt', name: 'By log-in', enabled: true, settings: { ...at, ...topics } as never })
  const running = () => engine.sources.get(bySource.id)
  const first = await until(() => running(), 'the source')
  // While it is refused it tries by what the log-in holds then, and need not begin anew.
  await until(
    () => running()!.present().state === 'running',
    () => `it to be connected: ${JSON.stringify(running()!.present())}`,
  )
  await replaceCredential(t.db, t.vault, login.id, { kind: 'password', certificate: null, facts: null, user: 'meters', secret: 'meters-2' })
  await until(() => running() !== undefined && running() !== first, 'the source to begin anew')
  const [others] = [...engine.sources].filter(([id]) => id !== bySource.id)
  const same = others?.[1]
  await putBack(t.db, login.id)
  await until(() => running() !== first, 'the source to begin anew')
  if (others) expect(engine.sources.get(others[0])).toBe(same)
})

it('only the same kind takes its place, one at a time, and what is not there is told', async () => {
  s = await scene({ still: true })
  const { t } = s
  const id = s.settings.credentialId!
  const login = { kind: 'password' as const, certificate: null, facts: null, user: 'a', secret: 'b' }
  await expect(replaceCredential(t.db, t.vault, id, login)).rejects.toMatchObject({ failure: { code: 'replacement.kind' } })
  await expect(putBack(t.db, id)).rejects.toMatchObject({ failure: { code: 'credential.nothing-before' } })
  await expect(forgetBefore(t.db, id)).rejects.toMatchObject({ failure: { code: 'credential.nothing-before' } })
  const next = await certificate('embrik-next')
  await expect(replaceCredential(t.db, t.vault, '01890000-0000-7000-8000-000000000000', next)).rejects.toMatchObject({ status: 404 })
  await replaceCredential(t.db, t.vault, id, next)
  await expect(replaceCredential(t.db, t.vault, id, next)).rejects.toMatchObject({ failure: { code: 'replacement.unconfirmed' } })
  await forgetBefore(t.db, id)
  await replaceCredential(t.db, t.vault, id, next)
})

it('the new one is tried with what uses it, while the old one goes on', async () => {
  s = await scene()
  const { engine } = s
  const { kind: _, ...stored } = { ...(await certificate('embrik-next')), kind: 'certificate' as const }
  const lane = s.destination().destination
  const instead = {
    id: s.settings.credentialId!,
    credential: { kind: 'certificate' as const, certificate: stored.certificate, user: null, secret: stored.secret },
  }
  const steps: CheckStep[] = []
  const planned = { filters: [], sends: [], others: [] }
  for await (const step of mqttDriver.check((await engine.targets.target({ ...lane, kind: 'mqtt' } as never, instead)) as never, planned))
    steps.push(step)
  expect(steps.filter((step) => step.state === 'failed')).toEqual([])
  const m = new Maker()
  m.certificate('stranger')
  const strange = { ...instead, credential: { ...instead.credential, certificate: m.text('stranger.crt'), secret: m.text('stranger.key') } }
  const failed: CheckStep[] = []
  for await (const step of mqttDriver.check((await engine.targets.target({ ...lane, kind: 'mqtt' } as never, strange)) as never, planned))
    if (step.state === 'failed') failed.push(step)
  expect(failed.length).toBeGreaterThan(0)
  s.change()
  await s.settled()
  expect(s.counts()).toMatchObject({ missing: 0, unknown: 0 })
})
