import { randomBytes } from 'node:crypto'
import { mkdtempSync } from 'node:fs'
import { createServer } from 'node:net'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import mqtt, { type IPublishPacket, type MqttClient } from 'mqtt'
import pg from 'pg'
import type { Destination } from '~/contract/destination'
import { freshBroker, type MqttSettings } from '~/contract/destinations/mqtt'
import { certificateFacts } from '~/core/credential/certificate'
import { noHighWater } from '~/core/delivery/high-water'
import { realClock } from '~/engine/clock/real-clock'
import { Ledger, type LedgerOptions } from '~/engine/ledger/ledger'
import { Broker, type BrokerOptions } from '~/standins/broker/broker'
import { type DemoPki, demoPki } from '~/standins/pki'
import { brokerUsers } from '~/standins/plant'
import { addCredential } from '~/store/credential'
import { type Db, openDatabase } from '~/store/database'
import { PgDeliveryStore, storeTrouble } from '~/store/delivery'
import { getDestination } from '~/store/destination'
import { migrate } from '~/store/migrate'
import { Vault } from '~/store/vault'

export const folder = (name: string) => mkdtempSync(join(tmpdir(), `embrik-${name}-`))

/** The migrated database from which those of tests are copied. */
const TEMPLATE = 'embrik_template'
let template: Promise<void> | null = null

const urlOf = (server: string, name: string) => server.replace(/\/[^/]*$/, `/${name}`)
// Many files run beside each other: that a connection comes late is no fault of what is tested.
const openLate = (url: string) => openDatabase(url, 6, undefined, 60_000)

/** Makes the template where it is not there yet: whoever comes first, while the others wait. */
async function demandTemplate(server: string): Promise<void> {
  const client = new pg.Client(server)
  await client.connect()
  try {
    await client.query('select pg_advisory_lock(1)')
    const { rowCount } = await client.query('select from pg_database where datname = $1', [TEMPLATE])
    if (rowCount !== 0) return
    await client.query(`drop database if exists ${TEMPLATE}_begun`)
    await client.query(`create database ${TEMPLATE}_begun`)
    const db = openLate(urlOf(server, `${TEMPLATE}_begun`))
    await migrate(db)
    await db.destroy()
    await client.query(`alter database ${TEMPLATE}_begun rename to ${TEMPLATE}`)
  } finally {
    await client.end()
  }
}

/** A database of its own on the test server (or another), migrated; dropped by `drop`. */
export async function freshDatabase(server = process.env.EMBRIK_TEST_DATABASE_URL, migrateTo?: Parameters<typeof migrate>[1]) {
  if (!server) throw new Error('EMBRIK_TEST_DATABASE_URL is not set: run these through npm test')
  const name = `t_${randomBytes(6).toString('hex')}`
  const admin = async (text: string) => {
    const client = new pg.Client(server)
    await client.connect()
    await client.query(text)
    await client.end()
  }
  // A server of one test's own has use for one alone.
  const copied = migrateTo === undefined && server === process.env.EMBRIK_TEST_DATABASE_URL
  if (copied) await (template ??= demandTemplate(server))
  await admin(`create database ${name}${copied ? ` template ${TEMPLATE}` : ''}`)
  const url = urlOf(server, name)
  const db = openLate(url)
  if (copied)
    await db
      .updateTable('installation')
      .set({ code: randomBytes(4).toString('hex') })
      .execute()
  else await migrate(db, migrateTo)
  const key = randomBytes(32)
  let open = true
  const close = async () => {
    if (open) await db.destroy()
    open = false
  }
  return {
    db,
    url,
    name,
    /** Of the vault, in hexadecimal digits. */
    key: key.toString('hex'),
    vault: new Vault(key),
    close,
    /** A copy of it, made now; gives how to bring that back. Whoever is connected is thrown out. */
    backUp: async () => {
      const others = `select pg_terminate_backend(pid) from pg_stat_activity where datname = '${name}'`
      await admin(others)
      await admin(`create database ${name}_copy template ${name}`)
      return async () => {
        await admin(`drop database ${name} with (force)`)
        await admin(`alter database ${name}_copy rename to ${name}`)
      }
    },
    drop: async () => {
      await close()
      await admin(`drop database ${name} with (force)`)
    },
  }
}

/** The delivery store of an engine that holds the lease under this epoch. */
export async function heldStore(db: Db, epoch = 1): Promise<PgDeliveryStore> {
  await db.updateTable('engine_lease').set({ epoch }).execute()
  return new PgDeliveryStore(db, () => epoch)
}

/** A ledger over a database, with nobody to be told of its troubles. */
export async function ledgerOver(db: Db, part: Partial<LedgerOptions> = {}): Promise<Ledger> {
  const ledger = new Ledger({
    highWater: noHighWater,
    store: await heldStore(db),
    clock: realClock,
    fenced: () => undefined,
    trouble: () => undefined,
    troubleOf: storeTrouble,
    ...part,
  })
  await ledger.load()
  return ledger
}

/** How the ledger stands in a database, without touching who holds the lease. */
export async function readLedger(db: Db): Promise<Ledger> {
  const store = new PgDeliveryStore(db, () => -1)
  const ledger = new Ledger({
    highWater: noHighWater,
    store,
    clock: realClock,
    fenced: () => undefined,
    trouble: () => undefined,
    troubleOf: storeTrouble,
  })
  await ledger.load()
  return ledger
}

const given = new Set<number>()

/** A port that nobody listens on, given once; below those that systems give to outgoing connections, which could take it meanwhile. */
export async function freePort(): Promise<number> {
  for (;;) {
    const port = 12_000 + Math.floor(Math.random() * 20_000)
    if (given.has(port)) continue
    given.add(port)
    const server = createServer()
    const free = await new Promise<boolean>((done) => {
      server.once('error', () => done(false))
      server.listen(port, '127.0.0.1', () => done(true))
    })
    if (!free) continue
    await new Promise<void>((done) => server.close(() => done()))
    return port
  }
}

let pki: Promise<DemoPki> | null = null
export const certificates = () => (pki ??= demoPki(folder('pki')))

export interface TestBroker {
  broker: Broker
  ports: { plain: number; tls: number; mutual: number; web?: number; webTls?: number }
}

export async function startBroker(ports?: TestBroker['ports'], more: Pick<BrokerOptions, 'keyOf' | 'logLimit' | 'logIn'> = {}): Promise<TestBroker> {
  const own = ports ?? { plain: await freePort(), tls: await freePort(), mutual: await freePort() }
  const c = await certificates()
  const broker = await Broker.start({
    ports: own,
    host: '127.0.0.1',
    ca: c.ca,
    certificate: c.broker.certificate,
    key: c.broker.key,
    users: brokerUsers,
    ...more,
  })
  return { broker, ports: own }
}

/** Waits until `look` gives something true; fails with what it last gave. */
export async function until<T>(look: () => T | Promise<T>, what: string | (() => string), seconds = 90): Promise<NonNullable<T>> {
  let last: unknown
  for (const end = performance.now() + seconds * 1000; performance.now() < end; ) {
    last = await look()
    if (last) return last as NonNullable<T>
    await new Promise((done) => setTimeout(done, 25))
  }
  throw new Error(`not within ${seconds} s: ${typeof what === 'string' ? what : what()} (last: ${JSON.stringify(last)})`)
}

/** Stores the works' certificates and gives the settings of a destination at the broker. */
/** A destination that is a broker. */
export async function brokerAt(db: Db, id: string): Promise<Extract<Destination, { kind: 'mqtt' }>> {
  const d = await getDestination(db, id)
  if (d.kind !== 'mqtt') throw new Error(`${d.name} is no broker`)
  return d
}

export async function brokerSettings(db: Db, vault: Vault, ports: TestBroker['ports']): Promise<MqttSettings> {
  const c = await certificates()
  const keep = async (name: string, kind: 'certificate' | 'authority', certificate: string, secret: string | null) =>
    (await addCredential(db, vault, { name, kind, certificate, facts: await certificateFacts(certificate), user: null, secret })).id
  return {
    host: '127.0.0.1',
    port: ports.mutual,
    protocol: '5',
    tls: true,
    authorityId: await keep('authority', 'authority', c.ca, null),
    clientId: 'sender',
    credentialId: await keep('sender', 'certificate', c.clients.embrik!.certificate, c.clients.embrik!.key),
    keepAliveS: 30,
    retryMs: 200,
    window: 100,
    ackS: 20,
    witness: true,
    witnessClientId: 'reader',
    witnessCredentialId: await keep('witness', 'certificate', c.clients.witness!.certificate, c.clients.witness!.key),
    lateS: 30,
    outboxMb: 50,
    outboxHours: 0,
    drainPerS: 0,
    journalHours: 24,
    journalMb: 20,
    ...freshBroker,
  }
}

/** A client that only reads, with a session that outlives a cut link; connected when it is given. */
export async function bystander(
  ports: TestBroker['ports'],
  clientId: string,
  each: (topic: string, payload: Buffer, packet: IPublishPacket) => void,
): Promise<MqttClient> {
  const c = await certificates()
  const client = mqtt.connect({
    protocol: 'mqtts',
    host: '127.0.0.1',
    port: ports.mutual,
    ca: c.ca,
    cert: c.clients.reader!.certificate,
    key: c.clients.reader!.key,
    protocolVersion: 5,
    clientId,
    clean: false,
    properties: { sessionExpiryInterval: 600 },
    reconnectPeriod: 100,
    // A link that died unheard of is noticed long before anybody gives up waiting.
    keepalive: 5,
    connectTimeout: 10_000,
  })
  client.on('message', each)
  client.on('error', () => undefined)
  await new Promise<void>((done) => client.once('connect', () => done()))
  return client
}
