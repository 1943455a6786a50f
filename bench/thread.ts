import { mkdtempSync, readFileSync } from 'node:fs'
import { cpus, tmpdir } from 'node:os'
import { join } from 'node:path'
import mqtt from 'mqtt'
import { certificateFacts } from '~/core/credential/certificate'
import { Account } from '~/core/delivery/account'
import { decodeSegment, encodeSegment } from '~/core/delivery/segment'
import { compile } from '~/core/publication/compile'
import { Engine } from '~/engine/engine'
import { addCredential } from '~/store/credential'
import { databaseUrl, openDatabase } from '~/store/database'
import { addDestination } from '~/store/destination'
import { addClass, addEquipment, listClasses, listEquipment } from '~/store/equipment'
import { migrate } from '~/store/migrate'
import { addPublication, goLive } from '~/store/publication'
import { addSource } from '~/store/source'
import { addTags, listTags } from '~/store/tag'
import { Vault } from '~/store/vault'

const EQUIPMENT = 100
const MEMBERS = 6
const WINDOW = 200
const SECONDS = Number(process.env.EMBRIK_BENCH_SECONDS ?? 10)
const port = Number(process.env.EMBRIK_PORT_BASE) + 13
const pki = join(process.env.EMBRIK_DEMO_DIR ?? '', 'pki')
const read = (file: string) => readFileSync(join(pki, file), 'utf8')
const sleep = (ms: number) => new Promise((done) => setTimeout(done, ms))
const show = (name: string, value: string) => console.log(`  ${name.padEnd(58)} ${value}`)
const perSecond = (n: number, ms: number) => `${Math.round((n / ms) * 1000).toLocaleString('en')}/s`

console.log(`\n${cpus().length} x ${cpus()[0]?.model}, Node ${process.version}, ${new Date().toISOString().slice(0, 10)}\n`)

// ---- the bare loop: the same library, payload size, window and broker
const payload = JSON.stringify({
  at: new Date().toISOString(),
  ...Object.fromEntries(Array.from({ length: MEMBERS }, (_, i) => [`member${i}`, 1234.5])),
})
/** The same packet as the engine's, octet for octet as long. */
const barest = { payloadFormatIndicator: true, contentType: 'application/json', userProperties: { 'embrik-id': 'a1b2c3d4.1.100000' } }
async function bareLoop(): Promise<number> {
  const client = mqtt.connect({
    protocol: 'mqtts',
    host: '127.0.0.1',
    port,
    ca: read('ca.pem'),
    cert: read('embrik.cert.pem'),
    key: read('embrik.key.pem'),
    protocolVersion: 5,
  })
  await new Promise<void>((done) => client.once('connect', () => done()))
  let acked = 0
  let flying = 0
  let over = false
  const began = performance.now()
  await new Promise<void>((done) => {
    const fill = () => {
      while (!over && flying < WINDOW) {
        flying++
        client.publish(`varnmoor/bare/${acked % EQUIPMENT}`, payload, { qos: 1, properties: barest }, () => {
          flying--
          acked++
          if (over && flying === 0) done()
          else fill()
        })
      }
    }
    setTimeout(() => {
      over = true
    }, SECONDS * 1000)
    fill()
  })
  const rate = acked / (performance.now() - began)
  client.end(true)
  return rate * 1000
}

// ---- the whole engine
const db = openDatabase(databaseUrl(), 8)
await migrate(db)
const vault = new Vault(Buffer.alloc(32, 7))
const keep = async (name: string, kind: 'certificate' | 'authority', certificate: string, secret: string | null) =>
  (await addCredential(db, vault, { name, kind, certificate, facts: await certificateFacts(certificate), user: null, secret })).id
const source = await addSource(db, vault, {
  name: 'none',
  kind: 'opcua',
  enabled: false,
  settings: { endpoint: 'opc.tcp://127.0.0.1:1/x', mode: 'None', policy: 'None', login: 'anonymous', rateMs: 500, retryMs: 1000 },
})
const tags = await addTags(
  db,
  Array.from({ length: EQUIPMENT * MEMBERS }, (_, i) => ({
    name: `t${i}`,
    sourceId: source.id,
    address: `${i}`,
    dataType: 'number' as const,
    unit: '',
    description: '',
    deadband: null,
  })),
)
const members = Array.from({ length: MEMBERS }, (_, i) => ({ key: `member${i}`, label: `Member ${i}`, dataType: 'number' as const, unit: '' }))
const cls = await addClass(db, { name: 'Bench', members })
const top = await addEquipment(db, { name: 'Varnmoor', parentId: null, level: 'enterprise', classId: null, bindings: {} })
const equipmentIds: string[] = []
for (let e = 0; e < EQUIPMENT; e++) {
  const bindings = Object.fromEntries(members.map((m, i) => [m.key, { kind: 'tag' as const, tagId: tags[e * MEMBERS + i]!.id }]))
  equipmentIds.push((await addEquipment(db, { name: `Unit ${e}`, parentId: top.id, level: 'work unit', classId: cls.id, bindings })).id)
}
const destination = await addDestination(db, {
  name: 'broker',
  kind: 'mqtt',
  enabled: true,
  settings: {
    host: '127.0.0.1',
    port,
    protocol: '5',
    tls: true,
    authorityId: await keep('ca', 'authority', read('ca.pem'), null),
    clientId: 'bench',
    credentialId: await keep('sender', 'certificate', read('embrik.cert.pem'), read('embrik.key.pem')),
    keepAliveS: 30,
    retryMs: 500,
    window: WINDOW,
    ackS: 20,
    witness: true,
    witnessClientId: 'bench-witness',
    witnessCredentialId: await keep('witness', 'certificate', read('witness.cert.pem'), read('witness.key.pem')),
    lateS: 30,
    outboxMb: 1000,
  },
})
const engine = new Engine({ db, url: databaseUrl(), vault, workFolder: mkdtempSync(join(tmpdir(), 'bench-')) })
await engine.start()
const world = {
  tags: new Map((await listTags(db)).map((x) => [x.id, x])),
  equipment: new Map((await listEquipment(db)).map((x) => [x.id, x])),
  classes: new Map((await listClasses(db)).map((x) => [x.id, x])),
}
const made = await addPublication(db, {
  name: 'bench',
  equipmentIds,
  trigger: { kind: 'change' },
  shape: 'compact-json',
  topic: '{enterprise}/bench/{unit}',
  qos: 1,
  retain: false,
  destinationId: destination.id,
})
await goLive(db, made.id, 'bench', async (p) => ({
  ...compile(p, world).body,
  publicationId: p.id,
  name: p.name,
  destinationId: destination.id,
  trigger: p.trigger,
  shape: p.shape,
  qos: p.qos,
  retain: p.retain,
}))
while (!engine.publishers.has(made.id)) await sleep(20)
const delivery = engine.publishers.get(made.id)!.plan.delivery
const counts = () => engine.ledger.countsOf(delivery)!
const handles = tags.map((t) => t.handle)
let turns = 0
function turn(): void {
  turns++
  engine.table.apply({ handles, values: handles.map(() => turns), statuses: handles.map(() => 0), times: handles.map(() => Date.now()) })
}

async function saturated(): Promise<number> {
  const before = counts().acknowledged
  const began = performance.now()
  while (performance.now() - began < SECONDS * 1000) {
    // As much as goes through: the next values come when the sender has nearly caught up.
    while (counts().produced - counts().acknowledged > 4000) await sleep(1)
    turn()
    await new Promise((done) => setImmediate(done))
  }
  const rate = (counts().acknowledged - before) / (performance.now() - began)
  while (counts().waiting > 0) await sleep(20)
  return rate * 1000
}

/** What it took of this process's CPU, µs a message. */
async function withCpu(work: () => Promise<number>): Promise<{ rate: number; cpu: number }> {
  const before = process.cpuUsage()
  const began = performance.now()
  const rate = await work()
  const used = process.cpuUsage(before)
  return { rate, cpu: (used.user + used.system) / (rate * ((performance.now() - began) / 1000)) }
}
const first = await withCpu(bareLoop)
const bareFirst = first.rate
const engineRun = await withCpu(saturated)
const whole = engineRun.rate
const bareSecond = await bareLoop()
const bare = (bareFirst + bareSecond) / 2
show(`bare loop, QoS 1, TLS, ${payload.length} B, window ${WINDOW}`, perSecond(bare, 1000))
show('whole engine: tag change to acknowledged, outbox and ledger on', perSecond(whole, 1000))
show('ratio', (whole / bare).toFixed(2))
show('CPU of this process a message, bare and whole', `${first.cpu.toFixed(0)} and ${engineRun.cpu.toFixed(0)} µs`)
const { missing, doubled, dropped } = counts()
show('missing, doubled, dropped meanwhile', `${missing}, ${doubled}, ${dropped}`)

await engine.stop()
await db.destroy()

// ---- parts alone
const messages = Array.from({ length: 1000 }, (_, i) => ({
  delivery: 1,
  seq: i + 1,
  topic: `varnmoor/bench/unit-${i % 100}`,
  payload,
  qos: 1 as const,
  retain: false,
  deviceAt: 1,
  producedAt: 1,
}))
let began = performance.now()
for (let i = 0; i < 200; i++) decodeSegment(encodeSegment(messages))
show('segment: encode and decode', perSecond(200_000, performance.now() - began))
const account = new Account(1)
began = performance.now()
for (let seq = 1; seq <= 500_000; seq++) {
  account.next(seq)
  account.stored(seq, seq)
  account.sent({ seq, topic: `t${seq % 100}`, digest: seq, qos: 1, deviceAt: seq, producedAt: seq }, () => undefined)
  account.acknowledged(seq, seq)
  account.seen({ seq, topic: `t${seq % 100}`, digest: seq, at: seq, counted: () => undefined })
  if (seq % 10_000 === 0) account.take()
}
show('account: produced to confirmed, in memory', perSecond(500_000, performance.now() - began))
show('memory of this process', `${Math.round(process.memoryUsage().rss / 1e6)} MB`)
process.exit(0)
