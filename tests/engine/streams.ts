import type { MqttSettings } from '~/contract/destinations/mqtt'
import type { Verdict } from '~/contract/live'
import { assurances, type Envelope } from '~/core/delivery/envelope'
import { packProperties, plainJson } from '~/core/delivery/properties'
import { chance } from '~/core/value/chance'
import { Engine } from '~/engine/engine'
import { BrokerFaults } from '~/standins/broker/faults'
import { Gate } from '~/standins/gate'
import { addDestination } from '~/store/destination'
import { judged } from './lines'
import { disagreements, expected, type Made } from './oracle'
import { bareDelivery, keyInPayload } from './random-faults'
import { pause } from './scene'
import { brokerSettings, folder, freePort, freshDatabase, startBroker, until } from './support'

export const LATE_S = 20

/** Messages of one QoS over one version of the protocol. */
export interface Stream {
  name: string
  qos: 0 | 1 | 2
  protocol: '5' | '3.1.1'
  delivery: number
  destinationId: string
  topic: string
  witness: string
  made: Made[]
}

/** What a message to be offered is like, by its topic. */
export type Like = (topic: string) => { retain?: boolean; pad?: number }

/** What a message must have ended as, where the broker's log does not tell it. */
export type Ends = (s: Stream, m: Made) => readonly (Verdict | 'waiting')[] | null

/** An engine with two destinations, over 5 and 3.1.1, three streams each, at a broker behind a gate. */
export async function openStreams(name: string, faults: Partial<BrokerFaults> = {}, part: Partial<MqttSettings> = {}) {
  const t = await freshDatabase()
  const b = await startBroker(undefined, { keyOf: keyInPayload, logLimit: Number.POSITIVE_INFINITY })
  b.broker.setFaults(BrokerFaults.parse(faults))
  const port = await freePort()
  const gate = await Gate.open(port, b.ports.mutual)
  const random = chance(Number(process.env.EMBRIK_SEED ?? Math.floor(Math.random() * 1e9)))
  const own = { port, lateS: LATE_S, outboxMb: 500, window: 200, ackS: 5, keepAliveS: 5, ...part }
  const settings = { ...(await brokerSettings(t.db, t.vault, b.ports)), ...own }
  const streams: Stream[] = []
  for (const protocol of ['5', '3.1.1'] as const) {
    const tag = protocol.replaceAll('.', '')
    const ids = { protocol, clientId: `sender-${tag}`, witnessClientId: `witness-${tag}` }
    const { id } = await addDestination(t.db, { name: `Broker ${protocol}`, kind: 'mqtt', enabled: true, settings: { ...settings, ...ids } })
    for (const qos of [0, 1, 2] as const) {
      const topic = `varnmoor/v${tag}/q${qos}`
      const delivery = await bareDelivery(t, id, `${topic}/#`)
      streams.push({ name: `${protocol} QoS ${qos}`, qos, protocol, delivery, destinationId: id, topic, witness: ids.witnessClientId, made: [] })
    }
  }
  const engine = new Engine({ db: t.db, url: t.url, vault: t.vault, workFolder: folder(name) })
  await engine.start()

  const up = () =>
    until(() => [...engine.destinations.values()].every((d) => d.present().state === 'running' && d.witness?.view()), 'both to be up', 60)

  function offer(s: Stream, n: number, below = '', like: Like = () => ({})): void {
    const account = engine.ledger.account(s.delivery)
    const envelopes: Envelope[] = []
    for (let i = 0; i < n; i++) {
      const now = Date.now()
      const { seq, turn } = account.next(now)
      const topic = `${s.topic}${below}/${Math.floor(random() * 20)}`
      s.made.push({ seq, topic, producedAt: now })
      const { retain = false, pad = 0 } = like(topic)
      const payload = `{"n":${seq},"value":${(random() * 1000).toFixed(3)}}${' '.repeat(pad)}`
      const { delivery, qos } = s
      const times = { deviceAt: now, producedAt: now, turn, madeMono: performance.now() }
      const properties = packProperties({ ...plainJson, kept: retain })
      envelopes.push({ delivery, seq, topic, payload, assurance: assurances[qos]!, ...times, properties })
    }
    engine.destinations.get(s.destinationId)!.outbox.offer(envelopes)
  }

  /** Sends `total` messages over all streams, while `during` happens now and then; `settled` tells when each has its verdict. */
  async function flow(
    total: number,
    of: readonly Stream[],
    during: (round: number) => void = () => undefined,
    o: { below?: string; like?: Like; waiting?: number } = {},
  ) {
    const worst = { missing: 0, doubled: 0, foreign: 0 }
    const before = of.map((s) => ({ ...engine.ledger.account(s.delivery).counts() }))
    const look = setInterval(() => {
      for (const [i, s] of of.entries()) {
        const c = engine.ledger.countsOf(s.delivery)!
        for (const k of ['missing', 'doubled', 'foreign'] as const) worst[k] = Math.max(worst[k], c[k] - before[i]![k])
      }
    }, 20)
    const each = Math.floor(total / of.length)
    const waiting = () => [...engine.destinations.values()].reduce((n, d) => n + d.outbox.waiting, 0)
    for (let done = 0, round = 0; done < each; done += 50, round++) {
      while (waiting() > (o.waiting ?? 3000)) await pause(2)
      for (const s of of) offer(s, Math.min(50, each - done), o.below, o.like)
      during(round)
      await new Promise((next) => setImmediate(next))
    }
    const settled = () => of.every((s) => judged(engine, s.delivery) && engine.ledger.witnessOf(s.delivery) === 'there')
    return { worst, settled, look: () => clearInterval(look) }
  }

  /** Messages after `from` whose verdict is not what the broker's log says, or `ends`. */
  function wrongOf(s: Stream, from: number, ends: Ends = () => null) {
    const made = s.made.filter((m) => m.seq > from)
    const e = expected(made, (m) => `${m.topic} ${m.seq}`, b.broker.truth, { witness: s.witness, lateMs: LATE_S * 1000, byId: s.protocol === '5' })
    for (const m of made) {
      const end = ends(s, m)
      if (end) e.verdicts.set(m.seq, end)
    }
    const account = engine.ledger.account(s.delivery)
    return disagreements(e, (seq) => account.verdict(seq))
  }

  const marks = () => new Map(streams.map((s) => [s, s.made.at(-1)?.seq ?? 0]))

  async function close(): Promise<void> {
    await engine.stop()
    await gate.close()
    await b.broker.stop()
    await t.drop()
  }
  return { t, b, gate, engine, streams, random, up, offer, flow, wrongOf, marks, close }
}
