import { join } from 'node:path'
import type { Address } from '~/contract/address'
import type { DestinationDraft } from '~/contract/destination'
import { FileSettings } from '~/contract/destinations/file'
import { HttpSettings } from '~/contract/destinations/http'
import { StreamSettings } from '~/contract/destinations/stream'
import type { PublicationDraft } from '~/contract/publication'
import { flatJsonSettings } from '~/contract/shape'
import { mqttAddress } from '~/core/address/kinds/mqtt'
import { shippedProfiles } from '~/core/hub/shipped'
import { Gate } from '~/standins/gate'
import { Receiver } from '~/standins/receiver/receiver'
import { Stream } from '~/standins/stream/stream'
import { addDestination } from '~/store/destination'
import { freeze } from '~/store/freeze'
import { goLive } from '~/store/going-live'
import { addPublication } from '~/store/publication-edit'
import { filesIn, rowsOf } from './files'
import { hubWithUnit } from './hubs'
import { brokerSettings, folder, freePort, type freshDatabase, startBroker } from './support'
import { recordsDatabase } from './tables'

type Fresh = Awaited<ReturnType<typeof freshDatabase>>

const pacedFor = (lateS: number) => ({ retryMs: 200, ackS: 5, witness: true, lateS, outboxMb: 500 })
const none = { authorityId: null, credentialId: null, witnessCredentialId: null }
const beside = { topicRule: 'slug' as const, headers: [], contentType: '' }

/** One road: its destination, where the `n`th publication on it goes, and how many copies of each message lie at its end, by id. */
export interface Road {
  destinationId: string
  address(n: number): Address
  copies(): Promise<Map<string, number>>
  /** The door before its far end; null: it has none. */
  gate: Gate | null
}

/** How often each id is there. */
export function tally(ids: Iterable<string | null | undefined>): Map<string, number> {
  const out = new Map<string, number>()
  for (const id of ids) if (id != null) out.set(id, (out.get(id) ?? 0) + 1)
  return out
}

/** Every kind of destination whose messages can be told apart at their far end, each with what stands there, which keeps so many at the most. */
export async function layRoads(t: Pick<Fresh, 'db' | 'vault'>, most = 400_000, lateS = 3600) {
  const paced = pacedFor(lateS)
  const top = folder('files')
  const parts: { stop(): Promise<unknown> }[] = []
  const gates: Gate[] = []
  const gateTo = async (target: number) => {
    const port = await freePort()
    const gate = await Gate.open(port, target)
    gates.push(gate)
    return { gate, port }
  }
  const receiver = await Receiver.start({ port: 0, most })
  const topics = Object.fromEntries(['', 1, 2, 3].map((n) => [`varnmoor.kiln${n}`, 3]))
  const stream = await Stream.start({ listeners: [{ name: 'plain', ports: [0, 0] }], topics, most })
  const records = await recordsDatabase()
  // Its tokens are good for as short as may be: one ends while others go wrong.
  const recipe = shippedProfiles[0]!.token!
  const byToken = await hubWithUnit(t, 'token', { token: { ...recipe, lifetimeS: 30, marginS: 15 } }, most)
  const byCertificate = await hubWithUnit(t, 'certificate', {}, most)
  for (const n of ['', 1, 2, 3]) byCertificate.unit.aliases.add(`zones${n}`)
  const broker = await startBroker(undefined, { logLimit: Number.POSITIVE_INFINITY })
  parts.push(receiver, stream, records, byToken, byCertificate, broker.broker)
  const door = { http: await gateTo(receiver.port), mqtt: await gateTo(broker.ports.mutual) }

  const add = async (name: string, draft: Pick<DestinationDraft, 'kind' | 'settings'>) =>
    (await addDestination(t.db, { name, enabled: true, ...draft } as DestinationDraft)).id
  const roads = new Map<string, Road>()
  const base = `http://127.0.0.1:${door.http.port}/api`
  roads.set('http', {
    destinationId: await add('http', {
      kind: 'http',
      settings: HttpSettings.parse({ ...none, ...paced, url: base, batch: 'array', readUrl: `${base}/kept?after={cursor}`, readEveryMs: 200 }),
    }),
    address: (n) => ({ kind: 'http', topic: `${n || ''}{unit}`, method: 'POST', ...beside }),
    copies: async () => tally(receiver.arrivals.map((a) => a.id)),
    gate: door.http.gate,
  })
  const servers = stream.places('plain').join(', ')
  roads.set('stream', {
    destinationId: await add('stream', {
      kind: 'stream',
      settings: StreamSettings.parse({ ...none, ...paced, servers, tls: false, mechanism: 'none', clientId: 'embrik' }),
    }),
    address: (n) => ({ kind: 'stream', topic: `{enterprise}.kiln${n || ''}`, key: '{unit}', ...beside }),
    copies: async () => tally(stream.truth.arrivals.filter((a) => a.offset !== null).map((a) => a.id)),
    gate: null,
  })
  const tables = new Set<string>()
  roads.set('table', {
    destinationId: await add('table', { kind: 'table', settings: await records.settings(t, { ...paced, make: true }) }),
    address: (n) => {
      tables.add(`zones${n || ''}`)
      return { kind: 'table', topic: `zones${n || ''}`, topicRule: 'underscores', keys: '' }
    },
    copies: async () => {
      // Embrik makes them when it first writes there.
      const made = new Set((await records.run(`select tablename from pg_tables`)).map((r) => r.tablename))
      const rows = await Promise.all([...tables].filter((name) => made.has(name)).map((name) => records.run(`select embrik_id from ${name}`)))
      return tally(rows.flat().map((r) => r.embrik_id))
    },
    gate: records.gate,
  })
  roads.set('file', {
    destinationId: await add('file', {
      kind: 'file',
      settings: FileSettings.parse({ ...paced, store: 'folder', folder: 'lake', format: 'parquet', ageS: 0.3, lookEveryS: 5 }),
    }),
    address: (n) => ({ kind: 'file', topic: `kiln${n || ''}/{unit}`, topicRule: 'slug', types: '' }),
    copies: async () => tally([...filesIn(join(top, 'lake'))].flatMap(([name, octets]) => rowsOf(name, octets).map((row) => String(row.embrik_id)))),
    gate: null,
  })
  for (const [name, { hub, settings }] of [['hub by token', byToken] as const, ['hub by certificate', byCertificate] as const]) {
    const { gate, port } = await gateTo(settings.port)
    roads.set(name, {
      destinationId: await add(name, {
        kind: 'hub',
        settings: { ...settings, port, ackS: paced.ackS, lateS: paced.lateS, outboxMb: paced.outboxMb },
      }),
      address: (n) => ({
        kind: 'hub',
        topic: name === 'hub by token' ? `${n ? `p${n}/` : ''}{enterprise}/{unit}` : `zones${n || ''}`,
        qos: 1,
        ...beside,
      }),
      copies: async () => tally(hub.truth.filter((m) => m.refused === null).map((m) => m.id)),
      gate,
    })
  }
  const settings = { ...(await brokerSettings(t.db, t.vault, broker.ports)), ...paced, port: door.mqtt.port }
  roads.set('mqtt', {
    destinationId: await add('mqtt', { kind: 'mqtt', settings }),
    address: (n) => ({ ...mqttAddress.fresh, topic: `varnmoor/mqtt${n}/{unit}`, qos: n === 2 ? 2 : 1 }),
    copies: async () => tally(broker.broker.truth.arrivals.map((a) => a.key)),
    gate: door.mqtt.gate,
  })

  return {
    ...{ top, roads, receiver, stream, records, broker: broker.broker, brokerPorts: broker.ports, tokenHub: byToken.hub },
    /** Puts a publication live on a road; gives it, and the number of its delivery. */
    async publish(road: string, n: number, equipmentIds: string[], part: Partial<PublicationDraft> = {}) {
      const { destinationId, address } = roads.get(road)!
      const { id } = await addPublication(t.db, {
        ...{ name: n === 0 ? road : `${road} ${n}`, equipmentIds, trigger: { kind: 'change' }, shape: flatJsonSettings, steersOnly: false },
        ...{ destinationId, address: address(n), ...part },
      })
      await goLive(t.db, id, 'test', freeze)
      const { number } = await t.db.selectFrom('delivery').select('number').where('publication_id', '=', id).executeTakeFirstOrThrow()
      return { id, delivery: number }
    },
    async stop() {
      for (const g of gates) await g.close()
      for (const p of parts.reverse()) await p.stop()
    },
  }
}
