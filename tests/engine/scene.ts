import type { MqttSettings } from '~/contract/destinations/mqtt'
import type { EventRow } from '~/contract/live'
import type { OverMqtt } from '~/core/publication/over-mqtt'
import { Engine } from '~/engine/engine'
import type { BrokerOptions } from '~/standins/broker/broker'
import { BrokerFaults } from '~/standins/broker/faults'
import { Gate } from '~/standins/gate'
import type { Db } from '~/store/database'
import { addDestination, changeDestination } from '~/store/destination'
import { listEvents } from '~/store/event'
import type { Vault } from '~/store/vault'
import { judged } from './lines'
import { publish, zonesPlant } from './plant'
import { brokerAt, brokerSettings, folder, freePort, freshDatabase, startBroker, type TestBroker, until } from './support'

export const pause = (ms: number) => new Promise((done) => setTimeout(done, ms))

export interface SceneOptions {
  settings?: Partial<MqttSettings>
  publication?: Partial<OverMqtt>
  zones?: number
  broker?: Pick<BrokerOptions, 'keyOf' | 'logLimit' | 'logIn'>
  ports?: TestBroker['ports']
  /** Settings that need what is there. */
  prepare?(t: { db: Db; vault: Vault }, b: TestBroker): Promise<Partial<MqttSettings>>
  /** At which of the broker's ports; absent: where certificates are asked for. */
  port?: 'plain' | 'mutual'
  /** The engine reaches the database through a gate. */
  databaseGate?: boolean
  /** The engine does not begin yet. */
  still?: boolean
}

/** A plant, a broker behind a gate, a destination, a publication and an engine, with what is needed to look at them. */
export async function scene(o: SceneOptions = {}) {
  const t = await freshDatabase()
  const b = await startBroker(o.ports, { logLimit: Number.POSITIVE_INFINITY, ...o.broker })
  const port = await freePort()
  const gate = await Gate.open(port, b.ports[o.port ?? 'mutual'])
  const settings = { ...(await brokerSettings(t.db, t.vault, b.ports)), port, ...o.settings, ...(await o.prepare?.(t, b)) }
  const { handles, equipmentIds } = await zonesPlant(t.db, t.vault, o.zones ?? 1)
  const destinationId = (await addDestination(t.db, { name: 'Broker', kind: 'mqtt', enabled: true, settings })).id
  const publicationId = await publish(t.db, { destinationId, equipmentIds, topic: 'varnmoor/one/{unit}', ...o.publication })
  let url = t.url
  let databaseGate: Gate | null = null
  if (o.databaseGate) {
    const at = new URL(t.url)
    const own = await freePort()
    databaseGate = await Gate.open(own, Number(at.port))
    at.port = String(own)
    url = at.href
  }
  const { openDatabase } = await import('~/store/database')
  const db = openDatabase(url, 6)
  let ended = 0
  const engine = new Engine({ db, url, vault: t.vault, workFolder: folder('scene'), takenOver: () => ended++ })
  if (!o.still) await engine.start()
  const destination = () => engine.destinations.get(destinationId)!
  const lines = () => engine.lines()
  const counts = (of = publicationId) => {
    const line = lines().find((l) => l.publicationId === of)
    return line ? engine.ledger.countsOf(line.delivery)! : null
  }
  const delivery = (of = publicationId) => lines().find((l) => l.publicationId === of)!.delivery
  let value = 0
  const change = (n = 1) => {
    for (let i = 0; i < n; i++) {
      value++
      engine.table.apply({ handles, values: handles.map(() => value), statuses: handles.map(() => 0), times: handles.map(() => Date.now()) })
    }
    return value
  }
  const feed = (everyMs: number) => {
    const timer = setInterval(() => change(), everyMs)
    return () => clearInterval(timer)
  }
  const up = () =>
    until(() => destination()?.present().state === 'running' && (settings.witness ? destination().witness?.view() : true), 'the destination to be up')
  /** Everything that was made is stored and has its verdict. */
  const settled = (seconds = 60, of = publicationId) =>
    until(() => counts(of) !== null && judged(engine, delivery(of)) && destination().outbox.waiting === 0, 'every verdict', seconds)
  const events = async (code?: string): Promise<EventRow[]> => {
    await engine.events.flush()
    return (await listEvents(t.db, 500)).filter((e) => code === undefined || e.code === code)
  }
  if (!o.still) await up()
  return {
    t,
    b,
    gate,
    databaseGate,
    engine,
    settings,
    handles,
    equipmentIds,
    destinationId,
    publicationId,
    destination,
    counts,
    delivery,
    change,
    feed,
    up,
    settled,
    events,
    ended: () => ended,
    faults: (part: Partial<BrokerFaults>) => b.broker.setFaults(BrokerFaults.parse(part)),
    save: async (part: Partial<MqttSettings>, enabled = true) => {
      const d = await brokerAt(t.db, destinationId)
      return changeDestination(t.db, destinationId, { ...d, enabled, settings: { ...d.settings, ...part } })
    },
    end: async () => {
      await engine.stop()
      await db.destroy()
      await gate.close()
      await databaseGate?.close()
      await b.broker.stop()
      await t.drop()
    },
  }
}
