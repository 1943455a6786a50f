import { writeFileSync } from 'node:fs'
import mqtt from 'mqtt'
import { newId } from '~/contract/id'
import { assurances, type Envelope } from '~/core/delivery/envelope'
import { chance } from '~/core/value/chance'
import { Engine } from '~/engine/engine'
import { BrokerFaults } from '~/standins/broker/faults'
import type { Message } from '~/standins/broker/message'
import { addDestination } from '~/store/destination'
import { wallBricks } from '~/store/ledger'
import { disagreements, expected, type Made, tallied } from './oracle'
import { brokerSettings, folder, type freshDatabase, readLedger, startBroker, until } from './support'

const LATE_S = 2
const FOREIGN = 40
const DELAY_MS = 4000

/** Tells messages apart by what is in them, whatever the protocol: topic and number; altered ones keep those of their original. */
export const keyInPayload = (m: Pick<Message, 'topic' | 'payload'>) => `${m.topic} ${/"n":(\d+)/.exec(m.payload.toString())?.[1] ?? '?'}`

/** A paused publication with a delivery, so that messages can be handed in directly. */
export async function bareDelivery(t: Pick<Fresh, 'db'>, destinationId: string, filter: string): Promise<number> {
  const id = newId()
  await t.db
    .insertInto('publication')
    .values({ id, name: filter, draft: '{}', destination_id: destinationId, state: 'paused', live_version: 1, live_draft_version: 1 })
    .execute()
  await t.db
    .insertInto('publication_version')
    .values({ publication_id: id, number: 1, plan: JSON.stringify({ reads: [filter], destinationId }), made_by: 'test' })
    .execute()
  const row = await t.db
    .insertInto('delivery')
    .values({ publication_id: id, destination_id: destinationId })
    .returning('number')
    .executeTakeFirstOrThrow()
  return row.number
}
type Fresh = Awaited<ReturnType<typeof freshDatabase>>

export interface Outcome {
  name: string
  /** What the broker's log says. */
  should: Record<string, number>
  wrong: { seq: number; is: string | null; should: readonly string[] }[]
  foreign: { is: number; should: number }
  /** The same, read from the database by a ledger that starts anew. */
  wrongAfterRestart: number
  /** Messages on the wall, against messages made. */
  onTheWall: { made: number; waiting: number; byVerdict: Record<string, number> }
  counts: Record<string, number>
}

/**
 * Sends `total` messages, a sixth each at QoS 0, 1 and 2 over MQTT 5 and 3.1.1, while the broker drops, doubles, delays,
 * reorders and alters deliveries by chance; then holds every verdict against the broker's log.
 */
export async function randomFaults(t: Fresh, total: number, seed: number): Promise<Outcome[]> {
  const b = await startBroker(undefined, { keyOf: keyInPayload, logLimit: Number.POSITIVE_INFINITY })
  const settings = await brokerSettings(t.db, t.vault, b.ports)
  const runs: {
    name: string
    delivery: number
    qos: 0 | 1 | 2
    byId: boolean
    destinationId: string
    witness: string
    made: Made[]
    topic: string
  }[] = []
  for (const protocol of ['5', '3.1.1'] as const) {
    const tag = protocol.replaceAll('.', '')
    const own = { protocol, clientId: `sender-${tag}`, witnessClientId: `witness-${tag}`, lateS: LATE_S, window: 200, outboxMb: 500 }
    const { id } = await addDestination(t.db, { name: `Broker ${protocol}`, kind: 'mqtt', enabled: true, settings: { ...settings, ...own } })
    for (const qos of [0, 1, 2] as const) {
      const topic = `varnmoor/v${tag}/q${qos}`
      const delivery = await bareDelivery(t, id, `${topic}/#`)
      runs.push({
        name: `MQTT ${protocol}, QoS ${qos}`,
        delivery,
        qos,
        byId: protocol === '5',
        destinationId: id,
        witness: own.witnessClientId,
        made: [],
        topic,
      })
    }
  }
  const engine = new Engine({ db: t.db, url: t.url, vault: t.vault, workFolder: folder('random-faults') })
  await engine.start()
  await until(
    () => [...engine.destinations.values()].every((d) => d.present().state === 'running' && d.witness?.view()),
    'both destinations to be up',
  )
  b.broker.setFaults(BrokerFaults.parse({ seed, drop: 0.01, double: 0.01, delay: 0.01, reorder: 0.01, alter: 0.01, delayMs: DELAY_MS }))
  const stranger = mqtt.connect({ host: '127.0.0.1', port: b.ports.plain, username: 'embrik', password: 'clay-sender-1', clientId: 'stranger' })
  await new Promise<void>((done) => stranger.once('connect', () => done()))

  const random = chance(seed)
  const each = Math.floor(total / runs.length)
  const open = () => runs.reduce((n, r) => n + r.made.length - (engine.ledger.countsOf(r.delivery)?.acknowledged ?? 0), 0)
  for (let done = 0; done < each; done += 50) {
    while (open() > 1500) await new Promise((next) => setTimeout(next, 2))
    for (const r of runs) {
      const account = engine.ledger.account(r.delivery)
      const envelopes: Envelope[] = []
      for (let i = 0; i < Math.min(50, each - done); i++) {
        const now = Date.now()
        const { seq, turn } = account.next(now)
        // Some on a topic of their own, where nothing can pass them.
        const topic = random() < 0.05 ? `${r.topic}/rare/${seq}` : `${r.topic}/${Math.floor(random() * 20)}`
        const payload = `{"n":${seq},"value":${(random() * 1000).toFixed(3)}}`
        r.made.push({ seq, topic, producedAt: now })
        envelopes.push({
          delivery: r.delivery,
          seq,
          topic,
          payload,
          assurance: assurances[r.qos]!,
          deviceAt: now,
          producedAt: now,
          turn,
          madeMono: performance.now(),
          properties: '',
        })
      }
      engine.destinations.get(r.destinationId)!.outbox.offer(envelopes)
    }
    await new Promise((next) => setImmediate(next))
  }
  const all = each * runs.length
  await until(() => b.broker.truth.arrivals.length === all, 'the broker to have all', 300)
  b.broker.setFaults(null)
  for (let i = 0; i < FOREIGN; i++) for (const r of runs) await stranger.publishAsync(`${r.topic}/${i % 20}`, `{"stranger":${i}}`, { qos: 1 })
  // Nothing is under way any more: what was delayed is out, what was handed over is acknowledged, and every message has its verdict.
  await new Promise((done) => setTimeout(done, DELAY_MS + 500))
  await until(() => runs.every((r) => engine.ledger.account(r.delivery).counts().waiting === 0), 'a verdict for every message', 120)
  const log = b.broker.truth
  await until(
    () => log.copies.every((c) => c.order === null || c.ackedAt !== null || log.arrivals[c.arrival - 1]!.qos === 0),
    'all acknowledged by the witness',
  )
  await new Promise((done) => setTimeout(done, 6000))
  await engine.ledger.flush()
  await engine.ledger.flush()

  const again = await readLedger(t.db)
  const bricks = await wallBricks(t.db, 0, Date.now() + 60_000, 10_000)
  const outcomes = runs.map((r): Outcome => {
    const e = expected(r.made, (m) => `${m.topic} ${m.seq}`, log, { witness: r.witness, lateMs: LATE_S * 1000, byId: r.byId })
    const account = engine.ledger.account(r.delivery)
    const wrong = disagreements(e, (seq) => account.verdict(seq))
    const byVerdict: Record<string, number> = {}
    let made = 0
    let sum = 0
    for (const { delivery, brick } of bricks) {
      if (delivery !== r.delivery) continue
      const { start: _, produced, ...rest } = brick
      made += produced
      for (const [k, n] of Object.entries(rest)) {
        byVerdict[k] = (byVerdict[k] ?? 0) + n
        if (k !== 'foreign') sum += n
      }
    }
    const counts = account.counts()
    return {
      name: r.name,
      should: tallied(e),
      wrong,
      foreign: { is: counts.foreign, should: e.foreign + FOREIGN },
      wrongAfterRestart: disagreements(e, (seq) => again.account(r.delivery).verdict(seq)).length,
      onTheWall: { made, waiting: made - sum, byVerdict },
      counts,
    }
  })
  if (process.env.EMBRIK_FAULTS_OUT)
    writeFileSync(process.env.EMBRIK_FAULTS_OUT, JSON.stringify({ outcomes, arrivals: log.arrivals, copies: log.copies }))
  stranger.end(true)
  await engine.stop()
  await b.broker.stop()
  return outcomes
}
