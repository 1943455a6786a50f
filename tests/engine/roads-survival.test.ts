import { join } from 'node:path'
import { beforeAll, describe, expect, it } from 'vitest'
import type { Address } from '~/contract/address'
import type { DestinationDraft } from '~/contract/destination'
import { FileSettings } from '~/contract/destinations/file'
import { HttpSettings } from '~/contract/destinations/http'
import { StreamSettings } from '~/contract/destinations/stream'
import { flatJsonSettings } from '~/contract/shape'
import { messageId } from '~/core/delivery/envelope'
import { chance } from '~/core/value/chance'
import { Receiver } from '~/standins/receiver/receiver'
import { Stream } from '~/standins/stream/stream'
import { type Db, openDatabase } from '~/store/database'
import { addDestination } from '~/store/destination'
import { freeze } from '~/store/freeze'
import { installationCode } from '~/store/person'
import { addPublication, goLive } from '~/store/publication'
import { filesIn, rowsOf } from './files'
import { FlowProcess, flowingProgram, loses, ownServer } from './flowing'
import { hubWithUnit } from './hubs'
import { zonesPlant } from './plant'
import { pause } from './scene'
import { folder, freshDatabase, readLedger, until } from './support'
import { recordsDatabase } from './tables'

// Every road but MQTT at once: an engine and a database that are killed, and what then lies at the far ends, message by message.

const PER_SECOND = 400
const paced = { retryMs: 200, ackS: 5, witness: true, lateS: 3600, outboxMb: 500 }

let program: string
beforeAll(async () => {
  program = await flowingProgram()
})

/** One road: its destination, and how many copies of each message lie at its end, by id. */
interface Road {
  delivery: number
  copies(): Promise<Map<string, number>>
}

const tally = (ids: Iterable<string | null>): Map<string, number> => {
  const out = new Map<string, number>()
  for (const id of ids) if (id !== null) out.set(id, (out.get(id) ?? 0) + 1)
  return out
}

async function begin(server?: string) {
  const top = folder('files')
  const t = await freshDatabase(server)
  const parts: { stop(): Promise<unknown> }[] = []
  const receiver = await Receiver.start({ port: 0, most: 400_000 })
  const stream = await Stream.start({ listeners: [{ name: 'plain', ports: [0, 0] }], topics: { 'varnmoor.kiln': 3 }, most: 400_000 })
  const records = await recordsDatabase()
  const byToken = await hubWithUnit(t, 'token', {}, 400_000)
  const byCertificate = await hubWithUnit(t, 'certificate', {}, 400_000)
  byCertificate.unit.aliases.add('zones')
  const hubs = [['hub by token', byToken] as const, ['hub by certificate', byCertificate] as const]
  parts.push(receiver, stream, records, byToken, byCertificate)
  const { handles, equipmentIds } = await zonesPlant(t.db, t.vault, 20)

  async function road(
    draft: Pick<DestinationDraft, 'kind' | 'settings'>,
    address: Address,
    copies: Road['copies'],
    name: string = draft.kind,
  ): Promise<[string, Road]> {
    const { id: destinationId } = await addDestination(t.db, { name, enabled: true, ...draft } as DestinationDraft)
    const { id } = await addPublication(t.db, {
      ...{ name, equipmentIds, trigger: { kind: 'change' }, shape: flatJsonSettings, address, steersOnly: false, destinationId },
    })
    await goLive(t.db, id, 'test', freeze)
    const { number } = await t.db.selectFrom('delivery').select('number').where('publication_id', '=', id).executeTakeFirstOrThrow()
    return [name, { delivery: number, copies }]
  }

  const base = `http://127.0.0.1:${receiver.port}/api`
  const none = { authorityId: null, credentialId: null, witnessCredentialId: null }
  const beside = { topicRule: 'slug' as const, headers: [], contentType: '' }
  const roads = new Map([
    await road(
      {
        kind: 'http',
        settings: HttpSettings.parse({ ...none, ...paced, url: base, batch: 'array', readUrl: `${base}/kept?after={cursor}`, readEveryMs: 200 }),
      },
      { kind: 'http', topic: '{unit}', method: 'POST', ...beside },
      async () => tally(receiver.arrivals.map((a) => a.id)),
    ),
    await road(
      {
        kind: 'stream',
        settings: StreamSettings.parse({
          ...none,
          ...paced,
          servers: stream.places('plain').join(', '),
          tls: false,
          mechanism: 'none',
          clientId: 'embrik',
        }),
      },
      { kind: 'stream', topic: '{enterprise}.kiln', key: '{unit}', ...beside },
      async () => tally(stream.truth.arrivals.filter((a) => a.offset !== null).map((a) => a.id)),
    ),
    await road(
      { kind: 'table', settings: await records.settings(t, { ...paced, make: true }) },
      { kind: 'table', topic: 'zones', topicRule: 'underscores', keys: '' },
      async () => tally((await records.run('select embrik_id from zones')).map((r) => r.embrik_id ?? null)),
    ),
    await road(
      { kind: 'file', settings: FileSettings.parse({ ...paced, store: 'folder', folder: 'lake', format: 'parquet', ageS: 0.3, lookEveryS: 5 }) },
      { kind: 'file', topic: 'kiln/{unit}', topicRule: 'slug', types: '' },
      async () => tally([...filesIn(join(top, 'lake'))].flatMap(([name, octets]) => rowsOf(name, octets).map((row) => String(row.embrik_id)))),
    ),
  ])
  for (const [kind, hub] of hubs) {
    const [, of] = await road(
      { kind: 'hub', settings: { ...hub.settings, ackS: paced.ackS, lateS: paced.lateS, outboxMb: paced.outboxMb } },
      { kind: 'hub', topic: kind === 'hub by token' ? '{enterprise}/{unit}' : 'zones', qos: 1, ...beside },
      async () => tally(hub.hub.truth.filter((m) => m.refused === null).map((m) => m.id)),
      kind,
    )
    roads.set(kind, of)
  }
  const engine = new FlowProcess({ program, url: t.url, key: t.key, handles, perSecond: PER_SECOND, files: top })

  /** Lets no more be made, waits for every verdict, and holds each against what lies there. */
  async function judge(db: Db = t.db) {
    engine.still()
    await pause(500)
    let waiting = ''
    const { ledger, installation } = await until(
      async () => {
        const read = await readLedger(db)
        const all = [...roads.values()].map(({ delivery }) => read.countsOf(delivery))
        if (all.every((c) => c && c.stored > 0 && c.waiting === 0)) return { ledger: read, installation: await installationCode(db) }
        waiting = [...roads.keys()].map((kind, i) => `${kind} ${JSON.stringify(all[i])}`).join('\n')
        return null
      },
      () => `every message to have its verdict: ${waiting}\n${engine.output}`,
      800,
    )
    const out: Record<string, { stored: number; wrong: unknown[]; twice: number }> = {}
    for (const [kind, { delivery, copies }] of roads) {
      const there = await copies()
      const account = ledger.account(delivery)
      const { stored } = account.counts()
      const wrong: unknown[] = []
      let twice = 0
      for (let seq = 1; seq <= stored; seq++) {
        const n = there.get(messageId(installation, delivery, seq)) ?? 0
        if (n > 1) twice++
        const is = account.verdict(seq)
        const should = n === 0 ? 'missing' : n === 1 ? 'confirmed' : 'doubled'
        if (is !== should) wrong.push([seq, is, should])
        else if (is === 'missing') wrong.push([seq, 'is not there'])
      }
      out[kind] = { stored, wrong: wrong.slice(0, 10), twice }
    }
    return out
  }

  return {
    ...{ t, engine, judge },
    async end() {
      await engine.end()
      for (const p of parts.reverse()) await p.stop()
      await t.drop()
    },
  }
}

function holds(judged: Awaited<ReturnType<Awaited<ReturnType<typeof begin>>['judge']>>, atLeast: number, said: string): void {
  for (const [kind, { stored, wrong }] of Object.entries(judged)) {
    expect(wrong, `${kind}, ${said}`).toEqual([])
    expect(stored, `${kind}, ${said}`).toBeGreaterThan(atLeast)
  }
  // By the id of a row, and by what lies in finished files, nothing is kept twice.
  expect([judged.table!.twice, judged.file!.twice], said).toEqual([0, 0])
}

describe.concurrent('on every road at once', () => {
  it('the engine is killed eight times at random moments: all is there, and told as it is', { timeout: 1_800_000 }, async () => {
    const seed = Number(process.env.EMBRIK_SEED ?? Math.floor(Math.random() * 1e9))
    const random = chance(seed)
    const s = await begin()
    try {
      for (let i = 0; i < 8; i++) {
        await s.engine.start()
        await pause(500 + random() * 2500)
        await s.engine.kill()
      }
      await s.engine.start()
      await pause(1000)
      holds(await s.judge(), PER_SECOND, `seed ${seed}`)
    } finally {
      await s.end()
    }
  })

  it("Embrik's own database is stopped at once and started again, three times: all is there, and told as it is", { timeout: 1_800_000 }, async () => {
    const server = await ownServer()
    await server.start()
    const s = await begin(server.url)
    await s.t.close()
    try {
      await s.engine.start()
      await loses(server, 3)
      const db = openDatabase(s.t.url, 2)
      holds(await s.judge(db), PER_SECOND, 'database')
      await db.destroy()
    } finally {
      await s.end()
      await server.stop('SIGINT')
    }
  })
})
