// The whole engine beside a bare loop of the same MQTT library: throughput and latency, taken in turns.
import mqtt, { type MqttClient } from 'mqtt'
import { Histogram } from '~/core/delivery/histogram'
import { certificate, median, perSecond, port, rig, show, sleep, WINDOW } from './common'

const EQUIPMENT = 100
const MEMBERS = Number(process.env.EMBRIK_BENCH_MEMBERS ?? 12)
const SECONDS = Number(process.env.EMBRIK_BENCH_SECONDS ?? 6)
const ROUNDS = 3
const LATENCY_RATE = 1000

const payload = JSON.stringify({
  at: new Date().toISOString(),
  ...Object.fromEntries(Array.from({ length: MEMBERS }, (_, i) => [`member${i}`, 1234.5])),
})
/** The same packet as the engine's, octet for octet as long. */
const properties = { payloadFormatIndicator: true, contentType: 'application/json', userProperties: { 'embrik-id': 'a1b2c3d4.1.100000' } }

async function connect(who: 'embrik' | 'reader'): Promise<MqttClient> {
  const client = mqtt.connect({
    protocol: 'mqtts',
    host: '127.0.0.1',
    port,
    ca: certificate('ca.pem'),
    cert: certificate(`${who}.cert.pem`),
    key: certificate(`${who}.key.pem`),
    protocolVersion: 5,
  })
  await new Promise<void>((done) => client.once('connect', () => done()))
  return client
}

/** Prepared payloads, the same window, the same broker: messages a second; with a reader that has to have seen each, in this process too. */
async function bareLoop(read = false): Promise<number> {
  const client = await connect('embrik')
  const reader = read ? await connect('reader') : null
  let seen = 0
  reader?.on('message', () => seen++)
  await reader?.subscribeAsync('varnmoor/bare/#', { qos: 1 })
  let acked = 0
  let flying = 0
  let over = false
  const began = performance.now()
  await new Promise<void>((done) => {
    const fill = () => {
      while (!over && flying < WINDOW) {
        flying++
        client.publish(`varnmoor/bare/${acked % EQUIPMENT}`, payload, { qos: 1, properties }, () => {
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
  while (reader && seen < acked) await sleep(1)
  const rate = (acked / (performance.now() - began)) * 1000
  client.end(true)
  reader?.end(true)
  return rate
}

/** Publishes at a steady rate and reads back with a second client: latencies in ms, sorted. */
async function bareLatency(): Promise<number[]> {
  const reader = await connect('reader')
  const sender = await connect('embrik')
  const took: number[] = []
  reader.on('message', (_topic, _payload, packet) => {
    took.push(performance.now() - Number(packet.properties?.userProperties?.at))
  })
  await reader.subscribeAsync('varnmoor/bare/#', { qos: 1 })
  await steady((n) => {
    for (let i = 0; i < n; i++)
      sender.publish(`varnmoor/bare/${i}`, payload, { qos: 1, properties: { ...properties, userProperties: { at: String(performance.now()) } } })
  })
  await sleep(500)
  reader.end(true)
  sender.end(true)
  return took.sort((a, b) => a - b)
}

/** Calls for a steady stream of so many a second: ten at a time. */
async function steady(make: (n: number) => void): Promise<void> {
  const began = performance.now()
  for (let made = 0; performance.now() - began < SECONDS * 1000; ) {
    while (made < ((performance.now() - began) * LATENCY_RATE) / 1000) {
      make(10)
      made += 10
    }
    await sleep(1)
  }
}

const r = await rig(EQUIPMENT, MEMBERS)
const { engine, handles, delivery } = r
const counts = () => engine.ledger.countsOf(delivery)!
let turns = 0
function change(some: readonly number[]): void {
  turns++
  const now = Date.now()
  engine.table.apply({ handles: [...some], values: some.map(() => turns), statuses: some.map(() => 0), times: some.map(() => now) })
}

async function saturated(): Promise<number> {
  const before = counts().acknowledged
  const began = performance.now()
  while (performance.now() - began < SECONDS * 1000) {
    // As much as goes through: the next values come when the sender has nearly caught up.
    while (engine.ledger.account(delivery).numberedThrough - counts().acknowledged > 4000) await sleep(1)
    change(handles)
    await new Promise((done) => setImmediate(done))
  }
  const rate = ((counts().acknowledged - before) / (performance.now() - began)) * 1000
  while (counts().waiting > 0 || counts().produced < engine.ledger.account(delivery).numberedThrough) await sleep(20)
  return rate
}

async function cpuOf(work: () => Promise<number>): Promise<{ rate: number; cpu: number }> {
  const before = process.cpuUsage()
  const began = performance.now()
  const rate = await work()
  const used = process.cpuUsage(before)
  return { rate, cpu: (used.user + used.system) / (rate * ((performance.now() - began) / 1000)) }
}

// In turns, so that a slow minute of the machine hits both.
const bare: { rate: number; cpu: number }[] = []
const both: { rate: number; cpu: number }[] = []
const whole: { rate: number; cpu: number }[] = []
for (let i = 0; i < ROUNDS; i++) {
  bare.push(await cpuOf(() => bareLoop()))
  both.push(await cpuOf(() => bareLoop(true)))
  whole.push(await cpuOf(saturated))
}
const rates = (list: { rate: number }[]) => list.map((x) => perSecond(x.rate, 1000)).join(', ')
show(`bare loop, QoS 1, TLS, ${payload.length} B, window ${WINDOW}; ${ROUNDS} rounds`, rates(bare))
show('bare loop and a bare reader in one process: what shows that it arrived', rates(both))
show('whole engine: tag change to acknowledged, outbox and ledger on', rates(whole))
show('ratio of the medians', (median(whole.map((x) => x.rate)) / median(bare.map((x) => x.rate))).toFixed(2))
show('ratio to loop and reader', (median(whole.map((x) => x.rate)) / median(both.map((x) => x.rate))).toFixed(2))
show('ratio of each round', whole.map((x, i) => (x.rate / bare[i]!.rate).toFixed(2)).join(', '))
show(
  'CPU of this process a message, bare and whole',
  `${median(bare.map((x) => x.cpu)).toFixed(0)} and ${median(whole.map((x) => x.cpu)).toFixed(0)} us`,
)

// What was measured until now is a past hour for the latencies.
await engine.ledger.flush()
await engine.ledger.flush()
const hour = engine.ledger.latencyHour(delivery)
const past = Histogram.decode(hour.total().encode())
let next = 0
await steady((n) => {
  // Ten messages: ten equipment, one tag each.
  const some = Array.from({ length: n }, (_, i) => handles[((next + i) % EQUIPMENT) * MEMBERS]!)
  next += n
  change(some)
})
while (counts().waiting > 0) await sleep(20)
await engine.ledger.flush()
const mine = Histogram.decode(hour.total().encode())
mine.subtract(past)
const theirs = await bareLatency()
const at = (q: number) => theirs[Math.min(theirs.length - 1, Math.floor(q * theirs.length))]!
const three = (f: (q: number) => number) => [0.5, 0.95, 0.99].map((q) => f(q).toFixed(1)).join(' / ')
show(
  `latency at ${LATENCY_RATE}/s, tag change to witness, p50 / p95 / p99, ms (${mine.count} messages)`,
  three((q) => mine.quantile(q)!),
)
show(`bare loop's at ${LATENCY_RATE}/s, publish to second client (${theirs.length} messages)`, three(at))
const { arrived, produced, missing, doubled, disordered, altered, dropped, unknown } = counts()
show('arrived of produced', `${arrived.toLocaleString('en')} of ${produced.toLocaleString('en')}`)
show('missing, doubled, disordered, altered, dropped, unknown meanwhile', [missing, doubled, disordered, altered, dropped, unknown].join(', '))
show('memory of this process', `${Math.round(process.memoryUsage().rss / 1e6)} MB`)
await r.stop()
process.exit(0)
