import { sql } from 'kysely'
import { afterAll, beforeAll, expect, it } from 'vitest'
import { RowPick } from '~/contract/rows'
import { flatJsonSettings } from '~/contract/shape'
import { overMqtt } from '~/core/publication/over-mqtt'
import { chance } from '~/core/value/chance'
import { freeze } from '~/store/freeze'
import { goLive } from '~/store/going-live'
import { addPublication } from '~/store/publication-edit'
import { addSource } from '~/store/source'
import { FlowProcess, flowingProgram } from './flowing'
import { pause, scene } from './scene'
import { readLedger, until } from './support'

// Rows that change all the time, told by an engine that is killed again and again: whoever does what it is told has all rows as they are.

let s: Awaited<ReturnType<typeof scene>>
let engine: FlowProcess
beforeAll(async () => {
  s = await scene({ still: true, broker: { keyOf: (m) => (m.topic.startsWith('varnmoor/rows/') ? m.payload.toString() : null) } })
  engine = new FlowProcess({ program: await flowingProgram(), url: s.t.url, key: s.t.key, handles: s.handles, perSecond: 1 })
})
afterAll(async () => {
  await engine.end()
  await s.end()
})

/** What a receiver has that does what each message says, in the order in which they came. */
function received(): Map<string, number> {
  const rows = new Map<string, number>()
  for (const { key } of s.b.broker.truth.arrivals) {
    if (key === null) continue
    const { row, n, change } = JSON.parse(key) as { row: string; n: number; change: string }
    if (change === 'removed') rows.delete(row)
    else rows.set(row, n)
  }
  return rows
}
const there = async () => new Map((await sql<{ name: string; n: number }>`select name, n from stock`.execute(s.t.db)).rows.map((r) => [r.name, r.n]))
const sorted = (rows: Map<string, number>) => [...rows].sort(([a], [b]) => (a < b ? -1 : 1))

it('nothing is left out, whenever it is killed', async () => {
  await sql`create table stock (name text primary key, n int)`.execute(s.t.db)
  const at = new URL(s.t.url)
  const source = await addSource(s.t.db, s.t.vault, {
    ...{ name: 'Stock', kind: 'sql', enabled: true, password: at.password || undefined },
    settings: {
      ...{ host: at.hostname, port: Number(at.port), database: s.t.name, user: at.username, tls: false, authorityId: null },
      ...{ query: 'select name, n from stock', keyColumn: 'name', timeoutMs: 5000, rateMs: 100, retryMs: 200 },
    },
  })
  const rows = RowPick.parse({ sourceId: source.id, columns: [{ name: 'n', dataType: 'number' }], nameAs: 'row', changeAs: 'change', removed: true })
  const { id } = await addPublication(
    s.t.db,
    overMqtt({
      ...{ name: 'stock', equipmentIds: [], trigger: { kind: 'change' }, shape: flatJsonSettings, destinationId: s.destinationId },
      ...{ rows, topic: 'varnmoor/rows/{value.row}' },
    }),
  )
  await goLive(s.t.db, id, 'test', freeze)
  const next = chance(7)
  let n = 0
  let rounds = 0
  const change = async () => {
    const name = `bay ${Math.floor(next() * (40 + 20 * rounds))}`
    if (next() < 0.3) await sql`delete from stock where name = ${name}`.execute(s.t.db)
    else await sql`insert into stock values (${name}, ${++n}) on conflict (name) do update set n = excluded.n`.execute(s.t.db)
  }
  for (let round = 0; round < 4; round++) {
    // What changes and is, by the time somebody looks again, what it was; what comes and is gone by then.
    await sql`drop table if exists before`.execute(s.t.db)
    await sql`create table before as select * from stock`.execute(s.t.db)
    await engine.start()
    // Once it is killed after what is told was written, and else before.
    const end = Date.now() + (round === 1 ? 12_000 : 1500 + next() * 2500)
    while (Date.now() < end) {
      await change()
      await pause(30)
    }
    await engine.kill()
    rounds++
    await sql`update stock set n = before.n from before where before.name = stock.name and hashtext(stock.name) % 2 = 0`.execute(s.t.db)
    await sql`insert into stock select * from before where hashtext(name) % 3 = 0 on conflict do nothing`.execute(s.t.db)
    await sql`delete from stock where name not in (select name from before) and hashtext(name) % 2 <> 0`.execute(s.t.db)
  }
  await engine.start()
  const wanted = sorted(await there())
  await until(
    () => JSON.stringify(sorted(received())) === JSON.stringify(wanted),
    () => `the receiver to have what is there: ${JSON.stringify(sorted(received()))}, not ${JSON.stringify(wanted)}`,
    60,
  )
  const { number } = await s.t.db.selectFrom('delivery').select('number').where('publication_id', '=', id).executeTakeFirstOrThrow()
  const judged = await until(async () => {
    const counts = (await readLedger(s.t.db)).countsOf(number)!
    return counts.stored > 0 && counts.waiting === 0 ? counts : null
  }, 'every message to have its verdict')
  expect(judged.stored).toBeGreaterThan(100)
  expect(judged).toMatchObject({ missing: 0, dropped: 0, altered: 0 })
}, 240_000)
