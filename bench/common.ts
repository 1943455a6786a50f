import { readFileSync } from 'node:fs'
import { join } from 'node:path'
import { certificateFacts } from '~/core/credential/certificate'
import { compile } from '~/core/publication/compile'
import { Engine } from '~/engine/engine'
import { addCredential } from '~/store/credential'
import { type Db, databaseUrl, openDatabase } from '~/store/database'
import { addDestination } from '~/store/destination'
import { addClass, addEquipment, listClasses, listEquipment } from '~/store/equipment'
import { migrate } from '~/store/migrate'
import { addPublication, goLive } from '~/store/publication'
import { addSource } from '~/store/source'
import { addTags, listTags } from '~/store/tag'
import { Vault } from '~/store/vault'

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
  delivery: number
  stop(): Promise<void>
}

/** An engine in this process with one publication: `equipment` of `members` tags each, live to the works' broker over mutual TLS. */
export async function rig(equipment: number, members: number): Promise<Rig> {
  const db = await emptyDatabase()
  const vault = new Vault(Buffer.alloc(32, 7))
  const keep = async (name: string, kind: 'certificate' | 'authority', text: string, secret: string | null) =>
    (await addCredential(db, vault, { name, kind, certificate: text, facts: await certificateFacts(text), user: null, secret })).id
  const source = await addSource(db, vault, {
    name: 'none',
    kind: 'opcua',
    enabled: false,
    settings: { endpoint: 'opc.tcp://127.0.0.1:1/x', mode: 'None', policy: 'None', login: 'anonymous', rateMs: 500, retryMs: 1000 },
  })
  const tags = await addTags(
    db,
    Array.from({ length: equipment * members }, (_, i) => ({
      name: `t${i}`,
      sourceId: source.id,
      address: `${i}`,
      dataType: 'number' as const,
      unit: '',
      description: '',
      deadband: null,
    })),
  )
  const parts = Array.from({ length: members }, (_, i) => ({ key: `member${i}`, label: `Member ${i}`, dataType: 'number' as const, unit: '' }))
  const cls = await addClass(db, { name: 'Bench', members: parts })
  const top = await addEquipment(db, { name: 'Varnmoor', parentId: null, level: 'enterprise', classId: null, bindings: {} })
  const equipmentIds: string[] = []
  for (let e = 0; e < equipment; e++) {
    const bindings = Object.fromEntries(parts.map((m, i) => [m.key, { kind: 'tag' as const, tagId: tags[e * members + i]!.id }]))
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
    },
  })
  const engine = new Engine({ db, url: databaseUrl(), vault, workFolder: '/tmp' })
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
  const { delivery } = engine.publishers.get(made.id)!.plan
  return {
    db,
    engine,
    delivery,
    handles: tags.map((t) => t.handle),
    stop: async () => {
      await engine.stop()
      await db.destroy()
    },
  }
}
