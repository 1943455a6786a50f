import { createServer, type Server } from 'node:http'
import { sql } from 'kysely'
import { afterAll, beforeAll, expect, it } from 'vitest'
import type { PublicationDraft } from '~/contract/publication'
import { RowPick } from '~/contract/rows'
import { flatJsonSettings } from '~/contract/shape'
import type { SettingsOf } from '~/contract/source'
import { type OverMqtt, overMqtt } from '~/core/publication/over-mqtt'
import { Engine } from '~/engine/engine'
import { rowsLook } from '~/engine/publications/preview-rows'
import { freeze } from '~/store/freeze'
import { goLive, setRunning } from '~/store/going-live'
import { getPublication } from '~/store/publication'
import { addPublication, changePublication } from '~/store/publication-edit'
import { addSource, sourceUse, switchSource } from '~/store/source'
import { judged } from './lines'
import { scene } from './scene'
import { folder, freePort, until } from './support'

// Rows of a query and of a JSON document, each a message.

let s: Awaited<ReturnType<typeof scene>>
let engine: Engine
let sourceId: string
let documentId: string
let served: Server
let answer: { status: number; body: string } = { status: 200, body: '[]' }
const columns = [
  { name: 'order_no', dataType: 'text' as const },
  { name: 'quantity', dataType: 'number' as const, unit: 'pcs' },
]

beforeAll(async () => {
  s = await scene({ broker: { keyOf: (m) => m.payload.toString() } })
  engine = s.engine
  await setRunning(s.t.db, s.publicationId, false)
  await sql`create table orders (line text primary key, order_no text, quantity int, note text)`.execute(s.t.db)
  await sql`insert into orders values ('kiln', 'WO-1', 100, 'a'), ('packing', 'WO-2', 200, 'b')`.execute(s.t.db)
  const at = new URL(s.t.url)
  const query: SettingsOf<'sql'> = {
    ...{ host: at.hostname, port: Number(at.port), database: s.t.name, user: at.username, tls: false, authorityId: null },
    ...{ query: 'select line, order_no, quantity, note from orders', keyColumn: 'line', timeoutMs: 5000, rateMs: 100, retryMs: 500 },
  }
  sourceId = (
    await addSource(s.t.db, s.t.vault, { name: 'Works orders', kind: 'sql', enabled: true, settings: query, password: at.password || undefined })
  ).id
  const port = await freePort()
  served = createServer((_req, res) => res.writeHead(answer.status, { 'content-type': 'application/json' }).end(answer.body))
  await new Promise<void>((done) => served.listen(port, '127.0.0.1', done))
  const document: SettingsOf<'http'> = {
    ...{ url: `http://127.0.0.1:${port}/`, authorityId: null, login: 'none', user: '', headers: '' },
    ...{ timeoutMs: 5000, rateMs: 100, retryMs: 500 },
  }
  documentId = (await addSource(s.t.db, s.t.vault, { name: 'Stock', kind: 'http', enabled: true, settings: document })).id
  await until(() => engine.documents.of(sourceId) !== null && engine.documents.of(documentId) !== null, 'both to answer')
})
afterAll(async () => {
  if (engine !== s.engine) await engine.stop()
  served.closeAllConnections()
  served.close()
  await s.end()
})

const draft = (name: string, rows: object, part: Partial<OverMqtt> = {}): PublicationDraft =>
  overMqtt({
    ...{ name, equipmentIds: s.equipmentIds, trigger: { kind: 'change' }, shape: flatJsonSettings, destinationId: s.destinationId },
    ...{ rows: RowPick.parse({ sourceId, columns, ...rows }), topic: `varnmoor/${name}/{value.row}`, ...part },
  })
/** What arrived of one since it was asked the last time: the values of its payloads but for times. */
const seen = new Map<string, number>()
function arrived(name: string): string[] {
  const all = s.b.broker.truth.arrivals.filter((a) => a.topic.startsWith(`varnmoor/${name}/`))
  const from = seen.get(name) ?? 0
  seen.set(name, all.length)
  const texts = all.slice(from).map(({ key }) => Object.values(JSON.parse(key!) as Record<string, unknown>))
  return texts.map((values) => values.filter((v) => typeof v !== 'object' && !/^\d{4}-.*Z$/.test(String(v))).join(' '))
}
const count = (name: string) => s.b.broker.truth.arrivals.filter((a) => a.topic.startsWith(`varnmoor/${name}/`)).length
const came = (name: string, n: number) => until(() => count(name) >= (seen.get(name) ?? 0) + n, `${n} messages of ${name}`)
const settled = (id: string) => until(() => judged(engine, engine.lines().find((l) => l.publicationId === id)!.delivery), 'every verdict')
const counts = (id: string) => engine.ledger.countsOf(engine.lines().find((l) => l.publicationId === id)!.delivery)!

let orders: string

it('are told when they change: added, changed, removed, and nothing else', async () => {
  const made = await addPublication(s.t.db, draft('orders', { nameAs: 'row', changeAs: 'change', removed: true }))
  orders = made.id
  // What was chosen of equipment before is not kept beside them.
  expect(made.equipmentIds).toEqual([])
  await goLive(s.t.db, orders, 'test', freeze)
  await came('orders', 2)
  expect(arrived('orders').sort()).toEqual(['WO-1 100 kiln added', 'WO-2 200 packing added'])
  await sql`update orders set quantity = 90 where line = 'kiln'`.execute(s.t.db)
  await came('orders', 1)
  expect(arrived('orders')).toEqual(['WO-1 90 kiln changed'])
  // What is in none of its columns changes nothing.
  await sql`update orders set note = 'other'`.execute(s.t.db)
  await sql`delete from orders where line = 'packing'`.execute(s.t.db)
  await sql`insert into orders values ('press', 'WO-3', null, '')`.execute(s.t.db)
  await came('orders', 2)
  expect(arrived('orders').sort()).toEqual(['WO-2 200 packing removed', 'WO-3 press added'])
  await settled(orders)
  expect(counts(orders)).toMatchObject({ produced: 5, arrived: 5, missing: 0, doubled: 0, disordered: 0 })
  expect(engine.publicationConditions()[orders]).toMatchObject({ state: 'running', reason: 'version 1; 2 rows' })
})

it('a version with another column tells each of them once more, and goes on from there', async () => {
  const { id: _i, version: _v, state: _s, liveVersion: _l, editedSinceLive: _e, ...rest } = await getPublication(s.t.db, orders)
  const wider = [...columns, { name: 'note', dataType: 'text' as const, unit: '' }].map((c) => ({ unit: '', ...c }))
  await changePublication(s.t.db, orders, { ...rest, rows: { ...rest.rows!, columns: wider } })
  await goLive(s.t.db, orders, 'test', freeze)
  await came('orders', 2)
  await sql`update orders set note = 'third' where line = 'kiln'`.execute(s.t.db)
  await came('orders', 3)
  expect(arrived('orders').sort()).toEqual(['WO-1 90 other kiln changed', 'WO-1 90 third kiln changed', 'WO-3  press changed'])
})

it('over a start they are known: what changed meanwhile is told, once', async () => {
  await engine.stop()
  await sql`update orders set quantity = 80 where line = 'kiln'`.execute(s.t.db)
  await sql`delete from orders where line = 'press'`.execute(s.t.db)
  engine = new Engine({ db: s.t.db, url: s.t.url, vault: s.t.vault, workFolder: folder('rows') })
  await engine.start()
  await came('orders', 2)
  expect(arrived('orders').sort()).toEqual(['WO-1 80 third kiln changed', 'WO-3  press removed'])
  await settled(orders)
  expect(counts(orders)).toMatchObject({ missing: 0, doubled: 0, disordered: 0 })
})

it('go out by the clock and by hand, all that there are', async () => {
  const every = await addPublication(s.t.db, draft('every', { nameAs: 'row' }, { trigger: { kind: 'every', seconds: 0.3 } }))
  await goLive(s.t.db, every.id, 'test', freeze)
  await came('every', 3)
  await setRunning(s.t.db, every.id, false)
  expect(new Set(arrived('every'))).toEqual(new Set(['WO-1 80 kiln']))
  const hand = await addPublication(s.t.db, draft('hand', { nameAs: 'row' }, { trigger: { kind: 'hand' } }))
  await goLive(s.t.db, hand.id, 'test', freeze)
  await until(() => engine.publicationConditions()[hand.id]?.state === 'running', 'it to run')
  expect(await engine.publications.say(hand.id, 1)).toBe(1)
  await came('hand', 1)
  expect(arrived('hand')).toEqual(['WO-1 80 kiln'])
})

it('through steps: kept, set, gathered by a window', async () => {
  await sql`insert into orders select 'line ' || i, 'WO-' || i, i, '' from generate_series(10, 19) i`.execute(s.t.db)
  const steps: PublicationDraft['steps'] = [
    { kind: 'keep', condition: 'quantity >= 15', unknown: 'drop' },
    { kind: 'set', member: 'double', expression: 'quantity * 2.0' },
    { kind: 'window', seconds: 0.5, by: 'last', key: 'row', count: 'times' },
  ]
  const made = await addPublication(s.t.db, draft('steps', { nameAs: 'row' }, { steps }))
  await goLive(s.t.db, made.id, 'test', freeze)
  await came('steps', 6)
  expect(arrived('steps').sort()).toEqual(['WO-1 80 kiln 160 1', ...[15, 16, 17, 18, 19].map((n) => `WO-${n} ${n} line ${n} ${2 * n} 1`)])
  await setRunning(s.t.db, made.id, false)
})

it('of a document that is nonsense for a while nothing is told, and why is said; of a list by its key', async () => {
  const list = (n: number) =>
    JSON.stringify({
      bays: [
        { bay: 'A', n },
        { bay: 'B', n: 1 },
      ],
    })
  answer = { status: 200, body: list(1) }
  const place = { sourceId: documentId, at: '/bays', key: 'bay', columns: [{ name: 'n', dataType: 'number' }] }
  const stock = await addPublication(s.t.db, draft('stock', { ...place, nameAs: 'row', changeAs: 'change', removed: true }))
  await goLive(s.t.db, stock.id, 'test', freeze)
  await came('stock', 2)
  expect(arrived('stock').sort()).toEqual(['1 A added', '1 B added'])
  const condition = () => engine.publicationConditions()[stock.id]
  answer = { status: 200, body: '{"bays":[{"n":1}]}' }
  await until(() => condition()?.reason === 'no rows of Stock: Row 1 has no bay, which tells it from others', 'it to say so')
  await engine.events.flush()
  expect((await s.events('publication.fails')).map((e) => e.message)).toContain(
    "its rows can't be read: Row 1 has no bay, which tells it from others",
  )
  answer = { status: 200, body: '{"bays":null}' }
  await until(() => condition()?.reason.includes('neither a list nor an object') ?? false, 'it to say so')
  answer = { status: 500, body: 'no' }
  await until(() => (condition()?.state === 'trouble' && engine.documents.of(documentId)?.lost) ?? false, 'the source to be lost')
  expect(arrived('stock')).toEqual([])
  answer = { status: 200, body: list(2) }
  await came('stock', 1)
  expect(arrived('stock')).toEqual(['2 A changed'])
  await until(() => condition()?.reason === 'version 1; 2 rows', 'it to be well again')
  // Switched off it is not silently "running".
  await switchSource(s.t.db, documentId, false)
  await until(() => condition()?.reason === 'no rows of Stock: It is switched off', 'it to say so')
  expect(arrived('stock')).toEqual([])
})

it('ten thousand of them at once are all told, while others go on', async () => {
  answer = { status: 200, body: JSON.stringify(Object.fromEntries(Array.from({ length: 10_000 }, (_, i) => [`r${i}`, { n: i }]))) }
  await switchSource(s.t.db, documentId, true)
  const many = await addPublication(s.t.db, draft('many', { sourceId: documentId, columns: [{ name: 'n', dataType: 'number' }], nameAs: 'row' }))
  await goLive(s.t.db, many.id, 'test', freeze)
  await came('many', 10_000)
  await settled(many.id)
  expect(new Set(arrived('many')).size).toBe(10_000)
  expect(counts(many.id)).toMatchObject({ produced: 10_000, arrived: 10_000, missing: 0, doubled: 0, disordered: 0 })
  answer = { status: 200, body: JSON.stringify(Object.fromEntries(Array.from({ length: 10_001 }, (_, i) => [`r${i}`, { n: i }]))) }
  await until(() => engine.publicationConditions()[many.id]?.reason === 'no rows of Stock: It has 10001 rows: 10000 can go out', 'it to say so')
  await setRunning(s.t.db, many.id, false)
}, 120_000)

it('something is looked up in them: with each message, and a message goes when the row is another', async () => {
  const recipe = (glaze: string) => JSON.stringify(Object.fromEntries(Array.from({ length: 50 }, (_, i) => [i, { glaze: `${glaze} ${i}` }])))
  answer = { status: 200, body: recipe('white') }
  await until(() => Object.keys((engine.documents.of(documentId)?.document ?? {}) as object).length === 50, 'the recipes')
  const set = (n: number) =>
    engine.table.apply({
      handles: s.handles,
      values: s.handles.map(() => n),
      statuses: s.handles.map(() => 0),
      times: s.handles.map(() => Date.now()),
    })
  set(7)
  const step: NonNullable<PublicationDraft['steps']>[number] = {
    ...{ kind: 'record', member: 'n', sourceId: documentId, at: '', key: '' },
    columns: [{ name: 'glaze', dataType: 'text', unit: '' }],
  }
  const { rows: _r, ...of } = draft('glaze', {}, { steps: [step], topic: 'varnmoor/glaze/{unit}' })
  const made = await addPublication(s.t.db, of)
  await goLive(s.t.db, made.id, 'test', freeze)
  await came('glaze', 1)
  expect(arrived('glaze')).toEqual(['7 white 7'])
  answer = { status: 200, body: recipe('green') }
  await came('glaze', 1)
  expect(arrived('glaze')).toEqual(['7 green 7'])
  set(8)
  await came('glaze', 1)
  expect(arrived('glaze')).toEqual(['8 green 8'])
  // While the source does not answer, what it said last goes on, as uncertain.
  answer = { status: 500, body: '' }
  await came('glaze', 1)
  expect(arrived('glaze')).toEqual(['8 green 8'])
  const shown = JSON.parse(await engine.preview(of)) as { steps: { changes: { member: string; after: string; quality: string }[] }[] }
  expect(shown.steps[0]!.changes).toMatchObject([{ member: 'glaze', after: 'green 8' }])
  expect(shown.steps[0]!.changes[0]!.quality).toContain('uncertain')
  expect((await sourceUse(s.t.db, documentId)).publications.map((p) => p.name)).toContain('glaze')
  await settled(made.id)
  expect(counts(made.id)).toMatchObject({ missing: 0, doubled: 0, disordered: 0 })
  await setRunning(s.t.db, made.id, false)
})

it('are shown before they go live, and in who uses a source', async () => {
  const d = draft('draft', { nameAs: 'row', changeAs: 'change', columns: [...columns, { name: 'nothing', dataType: 'text' }] })
  const shown = JSON.parse(await engine.preview(d)) as {
    topic: string
    message: { payload: string }
    findings: { severity: string; message: string }[]
  }
  expect(shown.topic).toMatch(/^varnmoor\/draft\/(kiln|packing|press|line-\d+)$/)
  expect(JSON.parse(shown.message.payload)).toMatchObject({
    order_no: expect.stringMatching(/^WO-/),
    quantity: expect.any(Number),
    row: shown.topic.split('/')[2],
    change: 'changed',
  })
  const nowhere = JSON.parse(await engine.preview(draft('draft', { at: '/nothing', nameAs: 'row' }))) as typeof shown
  expect(nowhere.findings.map((f) => f.message)).toContain('No rows now: There is nothing at /nothing')
  expect(rowsLook(engine.documents, sourceId, { at: '', key: '' })).toMatchObject({ rows: 11, problem: '' })
  expect(rowsLook(engine.documents, s.destinationId, { at: '', key: '' }).problem).toBe('It has not answered yet')
  expect((await sourceUse(s.t.db, sourceId)).publications.map((p) => p.name)).toEqual(['every', 'hand', 'orders', 'steps'])
  await expect(engine.budget({ draft: d, from: 0, to: 1 })).rejects.toMatchObject({ failure: { code: 'budget.rows' } })
})
