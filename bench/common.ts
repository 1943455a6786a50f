import { readFileSync } from 'node:fs'
import { join } from 'node:path'
import { freshBroker } from '~/contract/destinations/mqtt'
import type { Trigger } from '~/contract/trigger'
import { certificateFacts } from '~/core/credential/certificate'
import { Engine } from '~/engine/engine'
import { addCredential } from '~/store/credential'
import { type Db, databaseUrl, openDatabase } from '~/store/database'
import { addDestination } from '~/store/destination'
import { migrate } from '~/store/migrate'
import { Vault } from '~/store/vault'
import { publish, zonesPlant } from '../tests/engine/plant'

export const WINDOW = 200
export const port = Number(process.env.EMBRIK_PORT_BASE) + 13
const pki = join(process.env.EMBRIK_DEMO_DIR ?? '', 'pki')
export const certificate = (file: string) => readFileSync(join(pki, file), 'utf8')
export const sleep = (ms: number) => new Promise<void>((done) => setTimeout(done, ms))
export const show = (name: string, value: string) => console.log(`  ${name.padEnd(74)} ${value}`)
export const perSecond = (n: number, ms: number) => `${Math.round((n / ms) * 1000).toLocaleString('en')}/s`
export const median = (list: readonly number[]) => [...list].sort((a, b) => a - b)[Math.floor(list.length / 2)]!

export async function emptyDatabase(): Promise<Db> {
  const db = openDatabase(databaseUrl(), 8)
  await db.schema.dropSchema('public').ifExists().cascade().execute()
  await db.schema.createSchema('public').execute()
  await migrate(db)
  return db
}

export interface Rig {
  db: Db
  engine: Engine
  handles: number[]
  /** Of the publications. */
  ids: string[]
  /** Of the first. */
  delivery: number
  stop(): Promise<void>
}

/**
 * An engine in this process: `equipment` of `members` tags each, live to the works' broker over mutual TLS; in one publication
 * that speaks on change, or in one each that speaks every second.
 */
export async function rig(
  equipment: number,
  members: number,
  how: 'together' | 'each' = 'together',
  trigger: Trigger = { kind: 'every', seconds: 1 },
): Promise<Rig> {
  const db = await emptyDatabase()
  const vault = new Vault(Buffer.alloc(32, 7))
  const keep = async (name: string, kind: 'certificate' | 'authority', text: string, secret: string | null) =>
    (await addCredential(db, vault, { name, kind, certificate: text, facts: await certificateFacts(text), user: null, secret })).id
  const keys = Array.from({ length: members }, (_, i) => `member${i}`)
  const { handles, equipmentIds } = await zonesPlant(db, vault, equipment, keys)
  const destination = await addDestination(db, {
    name: 'broker',
    kind: 'mqtt',
    enabled: true,
    settings: {
      host: '127.0.0.1',
      port,
      protocol: '5',
      tls: true,
      authorityId: await keep('ca', 'authority', certificate('ca.pem'), null),
      clientId: 'bench',
      credentialId: await keep('sender', 'certificate', certificate('embrik.cert.pem'), certificate('embrik.key.pem')),
      keepAliveS: 30,
      retryMs: 500,
      window: WINDOW,
      ackS: 20,
      witness: true,
      witnessClientId: `bench-witness-${Date.now()}`,
      witnessCredentialId: await keep('witness', 'certificate', certificate('witness.cert.pem'), certificate('witness.key.pem')),
      lateS: 30,
      outboxMb: 1000,
      outboxHours: 0,
      drainPerS: 0,
      journalHours: 24,
      journalMb: Number(process.env.EMBRIK_BENCH_JOURNAL_MB ?? 20),
      ...freshBroker,
    },
  })
  const engine = new Engine({ db, url: databaseUrl(), vault, workFolder: '/tmp' })
  await engine.start()
  const common = { destinationId: destination.id, topic: '{enterprise}/bench/{unit}' }
  const ids: string[] = []
  if (how === 'together') ids.push(await publish(db, { ...common, name: 'bench', equipmentIds }))
  else for (const [i, one] of equipmentIds.entries()) ids.push(await publish(db, { ...common, name: `bench ${i}`, equipmentIds: [one], trigger }))
  while (!ids.every((id) => engine.publishers.has(id))) await sleep(20)
  const id = ids[0]!
  const { delivery } = engine.publishers.get(id)!.plan
  return {
    db,
    engine,
    ids,
    delivery,
    handles,
    stop: async () => {
      await engine.stop()
      await db.destroy()
    },
  }
}
