import Ajv2020 from 'ajv/dist/2020.js'
import avro from 'avsc'
import { Kafka, logLevel } from 'kafkajs'
import { afterEach, expect, it } from 'vitest'
import { StreamSettings } from '~/contract/destinations/stream'
import { FailureError } from '~/contract/failure'
import { ShapeSettings } from '~/contract/shape'
import type { NeededSchema } from '~/core/publication/registered'
import { realClock } from '~/engine/clock/real-clock'
import type { StreamTarget } from '~/engine/destinations/stream/access'
import { checkStream } from '~/engine/destinations/stream/check'
import { registerSchemas } from '~/engine/destinations/stream/schemas'
import { Engine } from '~/engine/engine'
import { demoPki } from '~/standins/pki'
import { noSchemaFaults, SchemaRegistry } from '~/standins/schemas/schemas'
import { Stream } from '~/standins/stream/stream'
import { addCredential, listCredentials } from '~/store/credential'
import { addDestination } from '~/store/destination'
import { freezeNumbered } from '~/store/freeze'
import { goLive } from '~/store/going-live'
import { addPublication } from '~/store/publication-edit'
import { zonesPlant } from './plant'
import { folder, freePort, freshDatabase, until } from './support'
import { talker } from './talker'

// Payloads that begin with the number of their schema: a registry gives it, and somebody else reads by it.

const users = { embrik: 'clay-schemas-1' }
let parts: { stop(): unknown }[] = []
afterEach(async () => {
  for (const p of parts.reverse()) await p.stop()
  parts = []
})

async function registry(o: Partial<Parameters<typeof SchemaRegistry.start>[0]> = {}): Promise<SchemaRegistry> {
  const made = await SchemaRegistry.start({ port: 0, users, ...o })
  parts.push(made)
  return made
}
const at = (port: number, scheme = 'http') => `${scheme}://127.0.0.1:${port}`
const stream = { servers: '127.0.0.1:1', tls: false, authorityId: null, clientId: 'embrik', credentialId: null, witnessCredentialId: null }
const terms = { retryMs: 200, ackS: 5, witness: true, lateS: 60, outboxMb: 100 }

function target(registryUrl: string, o: { secret?: string; ca?: string } = {}): StreamTarget {
  const settings = StreamSettings.parse({ ...stream, ...terms, registryUrl })
  const login = { kind: 'password' as const, certificate: null, user: 'embrik', secret: o.secret ?? users.embrik }
  const authority = o.ca ? { kind: 'authority' as const, certificate: o.ca, user: null, secret: null } : null
  return {
    settings,
    authority: null,
    credential: null,
    witnessCredential: null,
    more: { registryCredentialId: login, registryAuthorityId: authority },
  }
}
const kiln: NeededSchema = { subject: 'varnmoor.kiln-value', type: 'AVRO', schema: '{"type":"record","name":"Kiln","fields":[]}', messages: [0] }

it.each([
  ['avro', { kind: 'avro', namespace: 'varnmoor', framing: 'registry' }],
  ['flat JSON', { kind: 'flat-json', framing: 'registry', subject: '{class} of {place}' }],
  ['nested JSON', { kind: 'nested-json', framing: 'registry' }],
])('%s goes live with numbers of the registry, and is read by them by somebody else', { timeout: 120_000 }, async (_, settings) => {
  const t = await freshDatabase()
  parts.push({ stop: () => t.drop() })
  const schemas = await registry()
  const cluster = await Stream.start({ listeners: [{ name: 'plain', ports: [0, 0] }], topics: { 'varnmoor.zones': 2 } })
  parts.push(cluster)
  const { id: registryCredentialId } = await addCredential(t.db, t.vault, {
    ...{ name: 'registry', kind: 'password', certificate: null, facts: null, user: 'embrik', secret: users.embrik },
  })
  const { id: destinationId } = await addDestination(t.db, {
    ...{ name: 'Stream', kind: 'stream', enabled: true },
    settings: StreamSettings.parse({
      ...{ ...stream, ...terms, servers: cluster.places('plain').join(', '), registryUrl: at(schemas.port), registryCredentialId },
    }),
  })
  expect((await listCredentials(t.db)).find((c) => c.id === registryCredentialId)?.usedBy.map((use) => use.name)).toEqual(['Stream'])
  const { handles, equipmentIds } = await zonesPlant(t.db, t.vault, 3)
  const engine = new Engine({ db: t.db, url: t.url, vault: t.vault, workFolder: folder('schemas') })
  await engine.start()
  parts.push({ stop: () => engine.stop() })
  const shape = ShapeSettings.parse(settings)
  const address = { kind: 'stream' as const, topic: 'varnmoor.zones', topicRule: 'slug' as const, key: '{unit}', headers: [], contentType: '' }
  const { id } = await addPublication(t.db, {
    ...{ name: 'Zones', equipmentIds, trigger: { kind: 'every', seconds: 1 }, shape, address, steersOnly: false, destinationId },
  })
  const registered = await engine.registerSchemas(id)
  expect(registered).toHaveLength(1)
  // A second time it has the same number.
  expect(await engine.registerSchemas(id)).toEqual(registered)
  await expect(goLive(t.db, id, 'test', (p, tx) => freezeNumbered(p, tx, []))).rejects.toThrow('changed while it was registered')
  await goLive(t.db, id, 'test', (p, tx) => freezeNumbered(p, tx, registered))
  await until(() => engine.publicationConditions()[id], 'it to run', 30)
  const now = Date.now()
  engine.table.apply({ handles, values: handles.map((h) => h / 4), statuses: handles.map(() => 0), times: handles.map(() => now) })
  await until(() => (engine.lines()[0]?.counts.confirmed ?? 0) >= 6, 'messages to be confirmed', 60)

  const kafka = new Kafka({ brokers: cluster.places('plain'), logLevel: logLevel.NOTHING })
  const consumer = kafka.consumer({ groupId: 'office' })
  const got: Buffer[] = []
  await consumer.connect()
  await consumer.subscribe({ topics: ['varnmoor.zones'], fromBeginning: true })
  await consumer.run({ eachMessage: async ({ message }) => void got.push(message.value!) })
  await until(() => got.length >= 6, 'somebody else to read them', 60)
  await consumer.disconnect()
  for (const octets of got) {
    expect(octets[0]).toBe(0)
    const answer = await fetch(`${at(schemas.port)}/schemas/ids/${octets.readInt32BE(1)}`, {
      headers: { authorization: `Basic ${Buffer.from(`embrik:${users.embrik}`).toString('base64')}` },
    })
    const kept = (await answer.json()) as { schema: string; schemaType?: string }
    const body = octets.subarray(5)
    if (shape.kind === 'avro') {
      expect(kept.schemaType).toBeUndefined()
      const type = avro.Type.forSchema(JSON.parse(kept.schema), { wrapUnions: false })
      expect(type.isValid(type.fromBuffer(body))).toBe(true)
    } else {
      expect(kept.schemaType).toBe('JSON')
      const check = new Ajv2020({ strict: false, formats: { 'date-time': true } }).compile(JSON.parse(kept.schema))
      expect(check(JSON.parse(body.toString('utf8')))).toBe(true)
    }
  }
  const [subject] = schemas.subjects.keys()
  expect(subject).toBe(shape.kind === 'flat-json' ? 'Zone of varnmoor.zones' : 'varnmoor.zones')
  // What was given stays, whether the registry is there or not: another run needs it no more.
  await schemas.stop()
  parts = parts.filter((p) => p !== schemas)
  expect(engine.lines()[0]!.counts).toMatchObject({ missing: 0, unknown: 0, rejected: 0, altered: 0 })
})

it('tells apart what goes wrong, each with its words and what to do', async () => {
  const pki = await demoPki(folder('schemas-pki'))
  const tls = { cert: pki.broker.certificate, key: pki.broker.key }
  const [plain, secure, closed, shut, firstOnly, failing, web] = await Promise.all(Array.from({ length: 7 }, () => registry()))
  const safe = await registry({ tls })
  void secure
  closed!.faults = { ...noSchemaFaults, refuseLogins: true }
  shut!.faults = { ...noSchemaFaults, readOnly: true }
  firstOnly!.faults = { ...noSchemaFaults, firstOnly: 'kiln' }
  failing!.faults = { ...noSchemaFaults, status: 500 }
  web!.faults = { ...noSchemaFaults, status: 404 }
  await registerSchemas(target(at(firstOnly!.port)), [kiln], realClock)
  const other = { ...kiln, schema: '{"type":"string"}' }
  const mute = await talker(() => undefined, parts)
  const page = await talker((socket) => void socket.once('data', () => socket.end('HTTP/1.1 200 OK\r\ncontent-length: 6\r\n\r\n<html>')), parts)
  const cases: [what: string, of: () => Promise<unknown>, code: string, words: string][] = [
    ['nobody there', async () => registerSchemas(target(at(await freePort())), [kiln], realClock), 'port.refused', 'Nothing listens'],
    [
      'a wrong password',
      () => registerSchemas(target(at(plain!.port), { secret: 'x' }), [kiln], realClock),
      'schemas.login',
      'does not know the log-in',
    ],
    ['log-ins refused', () => registerSchemas(target(at(closed!.port)), [kiln], realClock), 'schemas.login', 'Unauthorized'],
    ['a log-in that may only look', () => registerSchemas(target(at(shut!.port)), [kiln], realClock), 'schemas.not-allowed', 'denied'],
    [
      'readers that would fail',
      () => registerSchemas(target(at(firstOnly!.port)), [other], realClock),
      'schemas.incompatible',
      'incompatible with an earlier',
    ],
    ['no schema', () => registerSchemas(target(at(plain!.port)), [{ ...kiln, schema: '{' }], realClock), 'schemas.invalid', 'Invalid schema'],
    ['a registry that fails', () => registerSchemas(target(at(failing!.port)), [kiln], realClock), 'schemas.failed', 'answered 500'],
    ['another web server', () => registerSchemas(target(at(web!.port)), [kiln], realClock), 'schemas.form', 'no schema registry at'],
    ['a page', () => registerSchemas(target(at(page)), [kiln], realClock), 'schemas.form', 'does not answer as'],
    ['silence', () => registerSchemas(target(at(mute)), [kiln], realClock), 'http.silent', 'no answer in time'],
    ['an unknown authority', () => registerSchemas(target(at(safe.port, 'https')), [kiln], realClock), 'tls.authority', 'not trusted'],
    ['plain where it is TLS', () => registerSchemas(target(at(safe.port)), [kiln], realClock), 'http.cut', 'hung up'],
    ['TLS where it is plain', () => registerSchemas(target(at(plain!.port, 'https')), [kiln], realClock), 'tls.protocol', 'does not speak TLS'],
  ]
  for (const [what, of, code, words] of cases) {
    const e = await of().then(
      () => null,
      (failed: unknown) => failed,
    )
    expect(e, what).toBeInstanceOf(FailureError)
    const { failure } = e as FailureError
    expect([what, failure.code]).toEqual([what, code])
    expect(failure.message, what).toContain(words)
    expect(failure.hint.length, what).toBeGreaterThan(5)
    expect(JSON.stringify(failure), what).not.toContain(users.embrik)
  }
  expect(await registerSchemas(target(at(safe.port, 'https'), { ca: pki.ca }), [kiln], realClock)).toEqual([
    { subject: kiln.subject, schema: kiln.schema, id: 1 },
  ])
})

it('the check asks it too', async () => {
  const schemas = await registry()
  const cluster = await Stream.start({ listeners: [{ name: 'plain', ports: [0, 0] }], topics: { a: 1 } })
  parts.push(cluster)
  const step = async (of: StreamTarget) => {
    const settings = { ...of.settings, servers: cluster.places('plain').join(', ') }
    for await (const s of checkStream({ ...of, settings }, [])) if (s.key === 'schemas' && s.state !== 'running') return s
    return null
  }
  expect(await step(target(at(schemas.port)))).toMatchObject({ state: 'passed', detail: 'keeps schemas under 0 subjects' })
  expect(await step(target(at(schemas.port), { secret: 'x' }))).toMatchObject({ state: 'failed', failure: { code: 'schemas.login' } })
  expect(await step(target(''))).toBeNull()
})
