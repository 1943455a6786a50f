// Streams, web servers, tables and files: the whole engine beside a bare loop of the same library, with the same batches and as many at once.
import { mkdirSync, mkdtempSync } from 'node:fs'
import { open, rename } from 'node:fs/promises'
import { Agent, request } from 'node:https'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { parquetWriteBuffer } from 'hyparquet-writer'
import pg from 'pg'
import { FileSettings } from '~/contract/destinations/file'
import { HttpSettings } from '~/contract/destinations/http'
import { StreamSettings } from '~/contract/destinations/stream'
import { TableSettings } from '~/contract/destinations/table'
import { certificateFacts } from '~/core/credential/certificate'
import type { Envelope } from '~/core/delivery/envelope'
import { packProperties, plainJson } from '~/core/delivery/properties'
import { StreamCluster } from '~/engine/destinations/stream/cluster'
import { Engine } from '~/engine/engine'
import { receiverUsers, recordsLogins, streamUsers } from '~/standins/plant'
import { setUpRecords } from '~/standins/records'
import { addCredential } from '~/store/credential'
import { databaseUrl } from '~/store/database'
import { addDestination } from '~/store/destination'
import { Vault } from '~/store/vault'
import { bareDelivery } from '../tests/engine/random-faults'
import { certificate, emptyDatabase, perSecond, show, sleep } from './common'

const TOTAL = Number(process.env.EMBRIK_BENCH_MESSAGES ?? 60_000)
const BATCH = 100
const PLACES = 8
const base = Number(process.env.EMBRIK_PORT_BASE)
const payload = (n: number) =>
  JSON.stringify({ n, at: '2026-11-28T12:00:00.000Z', ...Object.fromEntries(Array.from({ length: 6 }, (_, i) => [`member${i}`, 1234.5])) })

interface Road {
  kind: 'http' | 'stream' | 'table' | 'file'
  words: string
  settings(authorityId: string, credentialId: string, witnessCredentialId: string): HttpSettings | StreamSettings | TableSettings | FileSettings
  users: [sender: string, senderSecret: string, witness: string, witnessSecret: string]
  topic(place: number): string
  key(place: number): string
  how: string
  reads: string
  /** Sends all by hand, a batch under way a place; gives the octets of what it sent. */
  bare(): Promise<number>
}

const receiverUrl = `https://127.0.0.1:${base + 24}/api`
const paced = { retryMs: 500, ackS: 20, witness: true, lateS: 30, outboxMb: 1000 }

const http: Road = {
  kind: 'http',
  words: `HTTPS, ${BATCH} a request, ${PLACES} paths`,
  users: ['embrik', receiverUsers.embrik.secret, 'witness', receiverUsers.witness.secret],
  settings: (authorityId, credentialId, witnessCredentialId) =>
    HttpSettings.parse({
      ...{
        url: receiverUrl,
        authorityId,
        loginBy: 'basic',
        credentialId,
        batch: 'array',
        batchMost: BATCH,
        batchKb: 10_000,
        lingerMs: 5,
        window: 20_000,
      },
      ...{ readUrl: `${receiverUrl}/kept?after={cursor}`, readPlace: '/path', readPayload: '/payload', readEveryMs: 200, witnessCredentialId },
      ...{ parallel: PLACES, ...paced },
    }),
  topic: (place) => `bench/${place}`,
  key: () => '',
  how: 'POST',
  reads: 'bench/+',
  async bare() {
    const agent = new Agent({ keepAlive: true, maxSockets: PLACES, ca: certificate('ca.pem') })
    const authorization = `Basic ${Buffer.from(`embrik:${receiverUsers.embrik.secret}`).toString('base64')}`
    let octets = 0
    const post = (place: number, from: number) =>
      new Promise<void>((done, failed) => {
        const body = Buffer.from(`[${Array.from({ length: BATCH }, (_, i) => payload(from + i)).join(',')}]`)
        octets += body.length
        const headers = { authorization, 'content-type': 'application/json', 'content-length': body.length }
        const r = request(`${receiverUrl}/bare/${place}`, { method: 'POST', agent, headers }, (answer) => {
          answer.resume().once('end', done)
        })
        r.once('error', failed)
        r.end(body)
      })
    await Promise.all(
      Array.from({ length: PLACES }, async (_, place) => {
        for (let n = 0; n < TOTAL / PLACES; n += BATCH) await post(place, n)
      }),
    )
    agent.destroy()
    return octets
  },
}

const servers = `127.0.0.1:${base + 17}, 127.0.0.1:${base + 29}`
const stream: Road = {
  kind: 'stream',
  words: `stream, batches of ${BATCH}, all copies`,
  users: ['embrik', streamUsers.embrik, 'witness', streamUsers.witness],
  settings: (authorityId, credentialId, witnessCredentialId) =>
    StreamSettings.parse({
      ...{ servers, tls: true, authorityId, clientId: 'bench', mechanism: 'SCRAM-SHA-256', credentialId, witnessCredentialId },
      ...{ lingerMs: 5, batchKb: 20, window: 20_000, ...paced },
    }),
  topic: () => 'varnmoor.kiln',
  key: (place) => `place ${place}`,
  how: '',
  reads: 'varnmoor.kiln',
  async bare() {
    const login = { mechanism: 'SCRAM-SHA-256' as const, user: 'embrik', password: streamUsers.embrik }
    const access = {
      servers: [{ host: '127.0.0.1', port: base + 17 }],
      clientId: 'bare',
      tls: { ca: certificate('ca.pem') },
      login,
      answerMs: 20_000,
    }
    const cluster = await StreamCluster.open(access, () => undefined)
    const { leaders } = (await cluster.topics(['varnmoor.kiln'])).get('varnmoor.kiln')!
    let octets = 0
    await Promise.all(
      leaders.map(async (leader, partition) => {
        for (let n = 0; n < TOTAL / leaders.length; n += BATCH) {
          const records = Array.from({ length: BATCH }, (_, i) => {
            const value = Buffer.from(payload(n + i))
            octets += value.length
            return { topic: 'varnmoor.kiln', partition, value, key: Buffer.from(`bare ${partition}`), headers: new Map(), timestamp: 1n }
          })
          await cluster.produce(leader, -1, records, { compression: 'none', partitionLeaderEpoch: -1 } as never)
        }
      }),
    )
    cluster.close()
    return octets
  },
}

const { database, writer, reader } = recordsLogins
const server = new URL(databaseUrl())
const members = Array.from({ length: 6 }, (_, i) => `member${i}`)
const columns = `n bigint, at timestamptz, ${members.map((m) => `${m} double precision`).join(', ')}`

const table: Road = {
  kind: 'table',
  words: `PostgreSQL, ${BATCH} rows a statement, by a unique id`,
  users: [writer.user, writer.password, reader.user, reader.password],
  settings: (_authorityId, credentialId, witnessCredentialId) =>
    TableSettings.parse({
      ...{ host: server.hostname, port: Number(server.port), database, tls: false, authorityId: null, credentialId, witnessCredentialId },
      ...{ batchMost: BATCH, batchKb: 10_000, lingerMs: 5, window: 20_000, readEveryMs: 200, ...paced },
    }),
  topic: () => 'bench',
  key: () => '',
  how: '',
  reads: 'bench',
  async bare() {
    await setUpRecords(databaseUrl())
    const client = new pg.Client({ host: server.hostname, port: Number(server.port), database, user: writer.user, password: writer.password })
    await client.connect()
    for (const name of ['bench', 'bare'])
      await client.query(`drop table if exists ${name};
        create table ${name} (embrik_row bigint generated by default as identity primary key, embrik_id text unique, ${columns})`)
    const names = `embrik_id, n, at, ${members.join(', ')}`
    const text = `insert into bare (${names}) select ${names} from json_to_recordset($1::json) as r(embrik_id text, ${columns}) on conflict (embrik_id) do nothing`
    let octets = 0
    for (let n = 0; n < TOTAL; n += BATCH) {
      const rows = Array.from({ length: BATCH }, (_, i) => {
        const one = payload(n + i)
        octets += one.length
        return `{"embrik_id":"bare.${n + i}",${one.slice(1)}`
      })
      await client.query(text, [`[${rows.join(',')}]`])
    }
    await client.end()
    return octets
  },
}

process.env.EMBRIK_FILES_DIR = mkdtempSync(join(tmpdir(), 'embrik-bench-files-'))
const A_FILE = 1000

/** Files of a thousand messages in a folder, each written beside, synced and named. */
const files = (format: 'ndjson' | 'parquet'): Road => ({
  kind: 'file',
  words: `files, ${format}, ${A_FILE} messages each, ${PLACES} paths`,
  users: ['nobody', 'no secret', 'nobody else', 'no secret'],
  settings: () => FileSettings.parse({ store: 'folder', folder: `lake-${format}`, format, filesMost: A_FILE, ageS: 0.5, window: 20_000, ...paced }),
  topic: (place) => `bench/${place}`,
  key: () => '',
  how: '',
  reads: '/bench/',
  async bare() {
    const folder = mkdtempSync(join(tmpdir(), 'embrik-bench-bare-'))
    let octets = 0
    const write = async (place: number, from: number) => {
      const texts = Array.from({ length: A_FILE }, (_, i) => payload(from + i))
      const rows = texts.map((text, i) => ({ embrik_id: `bare.${place}.${from + i}`, text }))
      for (const { text } of rows) octets += text.length
      const body = format === 'ndjson' ? Buffer.from(rows.map((r) => `{"embrik_id":"${r.embrik_id}",${r.text.slice(1)}\n`).join('')) : columnsOf(rows)
      const name = join(folder, String(place), `${from}.${format}`)
      mkdirSync(join(folder, String(place)), { recursive: true })
      const file = await open(`${name}.part`, 'wx')
      await file.writeFile(body)
      await file.sync()
      await file.close()
      await rename(`${name}.part`, name)
    }
    await Promise.all(
      Array.from({ length: PLACES }, async (_, place) => {
        for (let n = 0; n < TOTAL / PLACES; n += A_FILE) await write(place, n)
      }),
    )
    return octets
  },
})

function columnsOf(rows: readonly { embrik_id: string; text: string }[]): Buffer {
  const parsed = rows.map((r) => JSON.parse(r.text) as Record<string, number>)
  const numbers = ['n', ...members].map((name) => ({ name, type: 'DOUBLE' as const, data: parsed.map((p) => p[name]!) }))
  const columnData = [
    { name: 'embrik_id', type: 'STRING' as const, data: rows.map((r) => r.embrik_id) },
    { name: 'at', type: 'STRING' as const, data: parsed.map((p) => p.at as unknown as string) },
    ...numbers,
  ]
  return Buffer.from(parquetWriteBuffer({ columnData, codec: 'UNCOMPRESSED', rowGroupSize: 100_000 }))
}

async function whole(road: Road): Promise<{ acknowledgedMs: number; confirmedMs: number; counts: object }> {
  const db = await emptyDatabase()
  const vault = new Vault(Buffer.alloc(32, 7))
  const facts = await certificateFacts(certificate('ca.pem'))
  const ca = await addCredential(db, vault, { name: 'ca', kind: 'authority', certificate: certificate('ca.pem'), facts, user: null, secret: null })
  const login = async (user: string, secret: string) =>
    (await addCredential(db, vault, { name: user, kind: 'password', certificate: null, facts: null, user, secret })).id
  const [sender, senderSecret, witness, witnessSecret] = road.users
  const settings = road.settings(ca.id, await login(sender, senderSecret), await login(witness, witnessSecret))
  const { id } = await addDestination(db, { name: road.kind, kind: road.kind, enabled: true, settings } as Parameters<typeof addDestination>[1])
  const delivery = await bareDelivery({ db }, id, road.reads)
  const engine = new Engine({ db, url: databaseUrl(), vault, workFolder: '/tmp' })
  await engine.start()
  while (!engine.destinations.get(id)?.witness?.view() || engine.destinations.get(id)!.present().state !== 'running') await sleep(20)
  const account = engine.ledger.account(delivery)
  const began = performance.now()
  for (let n = 0; n < TOTAL; n += 500) {
    while (engine.destinations.get(id)!.outbox.waiting > 20_000) await sleep(1)
    const now = Date.now()
    const envelopes = Array.from({ length: 500 }, (_, i): Envelope => {
      const place = (n + i) % PLACES
      const properties = packProperties({ ...plainJson, key: road.key(place), how: road.how })
      const times = { deviceAt: now, producedAt: now, madeMono: performance.now() }
      return { delivery, ...account.next(now), topic: road.topic(place), payload: payload(n + i), assurance: 'acknowledged', properties, ...times }
    })
    engine.destinations.get(id)!.outbox.offer(envelopes)
    await new Promise((next) => setImmediate(next))
  }
  while (account.counts().acknowledged < TOTAL) await sleep(1)
  const acknowledgedMs = performance.now() - began
  while (account.counts().arrived < TOTAL) await sleep(5)
  const confirmedMs = performance.now() - began
  const { confirmed, late, missing, doubled, disordered, altered, foreign } = account.counts()
  await engine.stop()
  await db.destroy()
  return { acknowledgedMs, confirmedMs, counts: { confirmed, late, missing, doubled, disordered, altered, foreign } }
}

for (const road of [http, stream, table, files('ndjson'), files('parquet')]) {
  // In turns, so that what the machine does besides meets both.
  const ratios: number[] = []
  for (let round = 0; round < 3; round++) {
    const began = performance.now()
    const octets = await road.bare()
    const bareMs = performance.now() - began
    const ours = await whole(road)
    ratios.push(bareMs / ours.acknowledgedMs)
    show(`${road.words}: bare loop`, `${perSecond(TOTAL, bareMs)}, ${Math.round(octets / TOTAL)} octets of payload a message`)
    show(
      `${road.words}: engine, acknowledged / seen by the witness`,
      `${perSecond(TOTAL, ours.acknowledgedMs)} / ${perSecond(TOTAL, ours.confirmedMs)}`,
    )
    show('  verdicts', JSON.stringify(ours.counts))
  }
  show(`${road.words}: engine to bare loop`, ratios.map((r) => r.toFixed(2)).join(', '))
}
