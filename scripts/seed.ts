import { X509Certificate } from 'node:crypto'
import { copyFile, mkdir, writeFile } from 'node:fs/promises'
import { join } from 'node:path'
import { FileSettings } from '~/contract/destinations/file'
import { HttpSettings } from '~/contract/destinations/http'
import { freshBroker } from '~/contract/destinations/mqtt'
import { TableSettings } from '~/contract/destinations/table'
import { newId } from '~/contract/id'
import { flatJsonSettings, ShapeSettings } from '~/contract/shape'
import type { Source } from '~/contract/source'
import type { TagInput } from '~/contract/tag'
import { certificateFacts } from '~/core/credential/certificate'
import { overMqtt } from '~/core/publication/over-mqtt'
import { makeApplicationCertificate } from '~/engine/sources/opcua/application'
import { setUpOrders } from '~/standins/orders'
import { demoPki } from '~/standins/pki'
import {
  brokerUsers,
  compressorLogin,
  kilnLogin,
  objectBucket,
  objectKeys,
  ordersLogin,
  receiverUsers,
  recordsLogins,
  schemaUsers,
  streamUsers,
} from '~/standins/plant'
import { standinPorts } from '~/standins/ports'
import { setUpRecords } from '~/standins/records'
import { addCredential, applicationCredential, listCredentials } from '~/store/credential'
import { type Db, databaseUrl, openDatabase } from '~/store/database'
import { addDestination, changeDestination, listDestinations } from '~/store/destination'
import { freeze } from '~/store/freeze'
import { goLive } from '~/store/going-live'
import { migrate } from '~/store/migrate'
import { addKey, addPerson, installationCode, listKeys, needsSetUp, removeKey } from '~/store/person'
import { addPublication } from '~/store/publication-edit'
import { addSource, changeSource, listSources } from '~/store/source'
import { addTags } from '~/store/tag-edit'
import { openVault, type Vault } from '~/store/vault'
import { moveHall, seedHall } from './seed-hall'
import { moveHub, seedHubs } from './seed-hubs'
import { seedPlant } from './seed-plant'
import { seedSources } from './seed-sources'

const people = [
  { name: 'Odo Marsh', login: 'odo', role: 'administrator', password: 'varnmoor-admin-1' },
  { name: 'Ines Rook', login: 'ines', role: 'engineer', password: 'varnmoor-engineer-2' },
  { name: 'Tam Birch', login: 'tam', role: 'operator', password: 'varnmoor-operator-3' },
  { name: 'Vera Loam', login: 'vera', role: 'viewer', password: 'varnmoor-viewer-4' },
] as const

const base = Number(process.env.EMBRIK_PORT_BASE ?? 4600)
const ports = standinPorts(base)
const streamServers = `127.0.0.1:${ports.stream}, 127.0.0.1:${ports.streamSecond}`
const receiverUrl = `https://127.0.0.1:${ports.receiver}/api`
const schemasUrl = `https://127.0.0.1:${ports.schemas}`
const objectsUrl = `https://127.0.0.1:${ports.objects}`
const databasePort = Number(new URL(databaseUrl()).port)
const demo = process.env.EMBRIK_DEMO_DIR ?? '.embrik/demo'

const db = openDatabase(databaseUrl(), 3)
const vault = openVault()
try {
  await migrate(db)
  await mkdir(demo, { recursive: true })
  const pki = await demoPki(join(demo, 'pki'))
  const { database } = await setUpOrders(databaseUrl())
  await setUpRecords(databaseUrl())
  if (await needsSetUp(db)) await seed(db, vault, pki, database)
  else await movePorts(db, vault)
  await handOut(db, pki.folder)
} finally {
  await db.destroy()
}

/** What a person or a script needs lies beside each other in the demo folder. */
async function handOut(db: Db, pkiFolder: string): Promise<void> {
  for (const file of ['ca.pem', 'witness.cert.pem', 'witness.key.pem']) await copyFile(join(pkiFolder, file), join(demo, file))
  const old = (await listKeys(db)).find((k) => k.name === 'demo scripts')
  if (old) await removeKey(db, old.id)
  const { key } = await addKey(db, { name: 'demo scripts', role: 'administrator', days: 730 }, null)
  await writeFile(join(demo, 'api-key'), `${key}\n`, { mode: 0o600 })
  const logins = {
    people,
    kiln: kilnLogin,
    compressor: compressorLogin,
    orders: ordersLogin,
    broker: brokerUsers.map(({ name, password }) => ({ user: name, password })),
    records: recordsLogins,
    stream: streamUsers,
    receiver: Object.fromEntries(Object.entries(receiverUsers).map(([user, { secret }]) => [user, secret])),
    schemas: schemaUsers,
    objects: Object.fromEntries(Object.entries(objectKeys).map(([key, { secret }]) => [key, secret])),
  }
  await writeFile(join(demo, 'logins.json'), `${JSON.stringify(logins, null, 2)}\n`, { mode: 0o600 })
  const application = await applicationCredential(db, vault)
  // The kiln has met this Embrik before, so that the demo starts with values.
  if (application && process.env.EMBRIK_DEMO_UNTRUSTED !== '1')
    await writeFile(join(demo, 'kiln-trusts.der'), new X509Certificate(application.certificate).raw)
}

/** The works stream, and the kiln's zones sent there too. */
async function seedStream(db: Db, vault: Vault, authorityId: string, zones: string[]): Promise<void> {
  const login = (name: string, user: keyof typeof streamUsers) =>
    addCredential(db, vault, { name, kind: 'password', certificate: null, facts: null, user, secret: streamUsers[user] })
  const sender = await login('Embrik at the works stream', 'embrik')
  const witness = await login('Witness at the works stream', 'witness')
  const registry = await addCredential(db, vault, {
    ...{ name: 'Embrik at the schema registry', kind: 'password', certificate: null, facts: null },
    ...{ user: 'embrik', secret: schemaUsers.embrik },
  })
  const { id: destinationId } = await addDestination(db, {
    name: 'Works stream',
    kind: 'stream',
    enabled: true,
    settings: {
      servers: streamServers,
      tls: true,
      authorityId,
      clientId: 'embrik',
      mechanism: 'SCRAM-SHA-512',
      credentialId: sender.id,
      acks: 'all',
      compression: 'gzip',
      lingerMs: 20,
      batchKb: 256,
      retryMs: 1000,
      window: 2000,
      ackS: 20,
      witness: true,
      witnessCredentialId: witness.id,
      registryUrl: schemasUrl,
      registryAuthorityId: authorityId,
      registryCredentialId: registry.id,
      lateS: 30,
      outboxMb: 200,
      outboxHours: 0,
      drainPerS: 0,
      journalHours: 24,
      journalMb: 64,
    },
  })
  const address = { kind: 'stream' as const, topic: '{enterprise}.kiln', topicRule: 'slug' as const, key: '{unit}', headers: [], contentType: '' }
  const made = await addPublication(db, {
    name: 'Kiln zones, to the stream',
    equipmentIds: zones,
    trigger: { kind: 'every', seconds: 5 },
    shape: flatJsonSettings,
    address,
    steersOnly: false,
    destinationId,
  })
  await goLive(db, made.id, 'Ines Rook', freeze)
}

/** A web server that takes the kiln's zones too, many a request. */
async function seedReceiver(db: Db, vault: Vault, authorityId: string, zones: string[]): Promise<void> {
  const login = (name: string, user: keyof typeof receiverUsers) =>
    addCredential(db, vault, { name, kind: 'password', certificate: null, facts: null, user, secret: receiverUsers[user].secret })
  const sender = await login('Embrik at the works receiver', 'embrik')
  const witness = await login('Witness at the works receiver', 'witness')
  const { id: destinationId } = await addDestination(db, {
    name: 'Works receiver',
    kind: 'http',
    enabled: true,
    settings: HttpSettings.parse({
      url: receiverUrl,
      authorityId,
      loginBy: 'basic',
      credentialId: sender.id,
      batch: 'array',
      answersAt: '/items',
      retryMs: 1000,
      witness: true,
      readUrl: `${receiverUrl}/kept?after={cursor}`,
      readPlace: '/path',
      readPayload: '/payload',
      witnessCredentialId: witness.id,
      outboxMb: 200,
    }),
  })
  const made = await addPublication(db, {
    name: 'Kiln zones, to the receiver',
    equipmentIds: zones,
    trigger: { kind: 'every', seconds: 10 },
    shape: flatJsonSettings,
    address: { kind: 'http', topic: '{site}/kiln/{unit}', method: 'POST', topicRule: 'slug', headers: [], contentType: '' },
    steersOnly: false,
    destinationId,
  })
  await goLive(db, made.id, 'Ines Rook', freeze)
}

/** Tables of the works' records, which take the kiln's zones as rows. */
async function seedRecords(db: Db, vault: Vault, zones: string[]): Promise<void> {
  const { database, writer, reader } = recordsLogins
  const login = (name: string, { user, password }: typeof writer) =>
    addCredential(db, vault, { name, kind: 'password', certificate: null, facts: null, user, secret: password })
  const { id: destinationId } = await addDestination(db, {
    name: 'Works records',
    kind: 'table',
    enabled: true,
    settings: TableSettings.parse({
      host: '127.0.0.1',
      port: databasePort,
      database,
      tls: false,
      authorityId: null,
      credentialId: (await login('Embrik at the works records', writer)).id,
      make: true,
      retryMs: 1000,
      witness: true,
      witnessCredentialId: (await login('Witness at the works records', reader)).id,
      outboxMb: 200,
    }),
  })
  const made = await addPublication(db, {
    name: 'Kiln zones, in a table',
    equipmentIds: zones,
    trigger: { kind: 'every', seconds: 10 },
    shape: ShapeSettings.parse({ kind: 'rows', form: 'json', rows: 'wide' }),
    address: { kind: 'table', topic: 'kiln_zones', topicRule: 'underscores', keys: '' },
    steersOnly: false,
    destinationId,
  })
  await goLive(db, made.id, 'Ines Rook', freeze)
}

/** Files of the works' object store, which take the kiln's zones as columns. */
async function seedLake(db: Db, vault: Vault, authorityId: string, zones: string[]): Promise<void> {
  const login = (name: string, user: keyof typeof objectKeys) =>
    addCredential(db, vault, { name, kind: 'password', certificate: null, facts: null, user, secret: objectKeys[user].secret })
  const { id: destinationId } = await addDestination(db, {
    name: 'Works lake',
    kind: 'file',
    enabled: true,
    settings: FileSettings.parse({
      store: 'objects',
      url: objectsUrl,
      bucket: objectBucket,
      folder: 'lake',
      authorityId,
      credentialId: (await login('Embrik at the works lake', 'embrik')).id,
      format: 'parquet',
      compression: 'zstd',
      ageS: 5,
      retryMs: 1000,
      witness: true,
      lateS: 60,
      witnessCredentialId: (await login('Witness at the works lake', 'witness')).id,
      outboxMb: 200,
    }),
  })
  const made = await addPublication(db, {
    name: 'Kiln zones, in files',
    equipmentIds: zones,
    trigger: { kind: 'every', seconds: 20 },
    shape: ShapeSettings.parse({ kind: 'rows', form: 'json', rows: 'wide' }),
    address: { kind: 'file', topic: 'kiln/{time.year}-{time.month}-{time.day}', topicRule: 'slug', types: 'at time' },
    steersOnly: false,
    destinationId,
  })
  await goLive(db, made.id, 'Ines Rook', freeze)
}

/** The data was kept but the ports moved: what points at the stand-ins follows. */
async function movePorts(db: Db, vault: Vault): Promise<void> {
  for (const s of await listSources(db)) {
    const moved = movedSource(s)
    if (JSON.stringify(moved.settings) !== JSON.stringify(s.settings)) await changeSource(db, vault, s.id, moved, undefined, true)
  }
  for (const d of await listDestinations(db)) {
    await moveHall(db, ports, d)
    await moveHub(db, ports, d)
    if (d.name === 'Works stream' && d.kind === 'stream' && d.settings.servers.startsWith('127.0.0.1:') && d.settings.servers !== streamServers)
      await changeDestination(db, d.id, { ...d, settings: { ...d.settings, servers: streamServers, registryUrl: schemasUrl } })
    if (d.name === 'Works receiver' && d.kind === 'http' && d.settings.url.startsWith('https://127.0.0.1:') && d.settings.url !== receiverUrl)
      await changeDestination(db, d.id, { ...d, settings: { ...d.settings, url: receiverUrl, readUrl: `${receiverUrl}/kept?after={cursor}` } })
    if (d.name === 'Works records' && d.kind === 'table' && d.settings.host === '127.0.0.1' && d.settings.port !== databasePort)
      await changeDestination(db, d.id, { ...d, settings: { ...d.settings, port: databasePort } })
    if (d.name === 'Works lake' && d.kind === 'file' && d.settings.url.startsWith('https://127.0.0.1:') && d.settings.url !== objectsUrl)
      await changeDestination(db, d.id, { ...d, settings: { ...d.settings, url: objectsUrl } })
    if (d.name === 'Site broker' && d.kind === 'mqtt' && d.settings.host === '127.0.0.1' && d.settings.port !== ports.brokerMutual)
      await changeDestination(db, d.id, { ...d, settings: { ...d.settings, port: ports.brokerMutual } })
  }
}

function movedSource(s: Source): Source {
  const here = (host: string) => host === '127.0.0.1'
  if (s.kind === 'opcua')
    return {
      ...s,
      settings: {
        ...s.settings,
        endpoint: s.settings.endpoint.replace(/^opc\.tcp:\/\/127\.0\.0\.1:\d+\/kiln$/, `opc.tcp://127.0.0.1:${ports.kiln}/kiln`),
      },
    }
  if (s.name === 'Dryers and meters' && s.kind === 'modbus' && here(s.settings.host)) return { ...s, settings: { ...s.settings, port: ports.field } }
  if (s.name === 'Devices on the site broker' && s.kind === 'mqtt' && here(s.settings.host))
    return { ...s, settings: { ...s.settings, port: ports.brokerPlain } }
  if (s.name === 'Works orders' && s.kind === 'sql' && here(s.settings.host)) return { ...s, settings: { ...s.settings, port: databasePort } }
  if (s.name === 'Compressor 1' && s.kind === 'http')
    return { ...s, settings: { ...s.settings, url: s.settings.url.replace(/^http:\/\/127\.0\.0\.1:\d+/, `http://127.0.0.1:${ports.compressor}`) } }
  return s
}

async function seed(db: Db, vault: Vault, pki: Awaited<ReturnType<typeof demoPki>>, database: string): Promise<void> {
  const installation = await installationCode(db)
  const application = await makeApplicationCertificate(installation)
  const certificate = async (name: string, kind: 'certificate' | 'authority' | 'application', pem: string, key: string | null) =>
    addCredential(db, vault, { name, kind, certificate: pem, facts: await certificateFacts(pem), user: null, secret: key })
  if (!(await listCredentials(db)).some((c) => c.kind === 'application'))
    await certificate('Embrik application', 'application', application.certificate, application.key)
  const authority = await certificate('Varnmoor Works Authority', 'authority', pki.ca, null)
  const sender = await certificate('Embrik at the site broker', 'certificate', pki.clients.embrik!.certificate, pki.clients.embrik!.key)
  const witness = await certificate('Witness at the site broker', 'certificate', pki.clients.witness!.certificate, pki.clients.witness!.key)

  // The engineer of the demo has compared the kiln's certificate already.
  const kilnThumbprint = new X509Certificate(pki.kiln.certificate).fingerprint256.replaceAll(':', '').toLowerCase()
  const source = await addSource(db, vault, {
    name: 'Kiln controller',
    kind: 'opcua',
    enabled: true,
    password: kilnLogin.password,
    settings: {
      endpoint: `opc.tcp://127.0.0.1:${ports.kiln}/kiln`,
      mode: 'SignAndEncrypt',
      policy: 'Basic256Sha256',
      login: 'user',
      user: kilnLogin.user,
      serverThumbprint: kilnThumbprint,
      serverCertificate: pki.kiln.certificate,
      credentialId: null,
      samplingMs: 0,
      queue: 10,
      deadbands: 'here',
      rateMs: 500,
      retryMs: 1000,
    },
  })

  const tag = (
    name: string,
    node: string,
    dataType: TagInput['dataType'],
    unit = '',
    deadband: number | null = null,
    description = '',
  ): TagInput => ({
    name,
    sourceId: source.id,
    address: `ns=2;s=kiln.${node}`,
    dataType,
    unit,
    description,
    deadband: deadband === null ? null : { kind: 'absolute', size: deadband },
  })
  const drafts: TagInput[] = []
  for (let z = 1; z <= 12; z++)
    drafts.push(
      tag(`Zone ${z}/temperature`, `zone${z}.temperature`, 'number', '°C', 0.5, `Thermocouple of zone ${z}`),
      { ...tag(`Zone ${z}/setpoint`, `zone${z}.setpoint`, 'number', '°C'), access: 'read-write', range: { low: 0, high: 1250 } },
      tag(`Zone ${z}/gas flow`, `zone${z}.gasFlow`, 'number', 'm³/h', 0.2),
      tag(`Zone ${z}/burner`, `zone${z}.burner`, 'boolean'),
    )
  drafts.push(
    tag('Tunnel Kiln 1/draught', 'draught', 'number', 'Pa', 0.5, 'Below the atmosphere'),
    tag('Tunnel Kiln 1/oxygen', 'oxygen', 'number', '%', 0.05),
    tag('Tunnel Kiln 1/car number', 'carNumber', 'integer'),
    tag('Tunnel Kiln 1/push interval', 'pushInterval', 'number', 's'),
    tag('Tunnel Kiln 1/firing curve', 'firingCurve', 'text'),
  )
  await addTags(db, drafts)
  const collector = brokerUsers.find((u) => u.name === 'collector')!
  const { id: collectorId } = await addCredential(db, vault, {
    name: 'Collector at the site broker',
    kind: 'password',
    certificate: null,
    facts: null,
    user: collector.name,
    secret: collector.password,
  })
  await seedSources(db, vault, ports, database, databasePort, collectorId, installation)

  const { kiln, zones } = await seedPlant(db)

  const destination = await addDestination(db, {
    name: 'Site broker',
    kind: 'mqtt',
    enabled: true,
    settings: {
      host: '127.0.0.1',
      port: ports.brokerMutual,
      protocol: '5',
      tls: true,
      authorityId: authority.id,
      clientId: `embrik-${installation}`,
      credentialId: sender.id,
      keepAliveS: 30,
      retryMs: 1000,
      window: 200,
      ackS: 20,
      witness: true,
      witnessClientId: `embrik-${installation}-witness`,
      witnessCredentialId: witness.id,
      lateS: 30,
      outboxMb: 500,
      outboxHours: 0,
      drainPerS: 0,
      journalHours: 24,
      journalMb: 64,
      ...freshBroker,
    },
  })

  const publish = async (
    name: string,
    equipmentIds: string[],
    topic: string,
    trigger: { kind: 'change' } | { kind: 'every'; seconds: number },
    retain: boolean,
  ) => {
    const made = await addPublication(
      db,
      overMqtt({ name, equipmentIds, trigger, shape: flatJsonSettings, topic, retain, destinationId: destination.id }),
      newId(),
    )
    await goLive(db, made.id, 'Ines Rook', freeze)
  }
  await publish('Kiln zones, each change', zones, '{enterprise}/{site}/{area}/{centre}/{unit}/state', { kind: 'change' }, false)
  await publish('Kiln, every 10 s', [kiln], '{enterprise}/{site}/{area}/{centre}/state', { kind: 'every', seconds: 10 }, true)
  await seedStream(db, vault, authority.id, zones)
  await seedReceiver(db, vault, authority.id, zones)
  await seedRecords(db, vault, zones)
  await seedLake(db, vault, authority.id, zones)
  await seedHall(db, ports, zones)
  await seedHubs(db, vault, ports, demo, kiln, zones)
  // Last: whoever finds people here finds a whole demo.
  for (const p of people) await addPerson(db, p)
}
