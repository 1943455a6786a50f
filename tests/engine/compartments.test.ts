import { sql } from 'kysely'
import pg from 'pg'
import { describe, expect, it, vi } from 'vitest'
import { Engine } from '~/engine/engine'
import { LiveTable } from '~/engine/live/table'
import { UnitPoller } from '~/engine/sources/modbus/poller'
import { openDatabase } from '~/store/database'
import { addEvents } from '~/store/event'
import { publish } from './plant'
import { pause, scene } from './scene'
import { folder, until } from './support'

// What goes wrong in one source, publication or destination is its own trouble; a database may be away, silent or full.

/** While it is there, nothing can be stored: as PostgreSQL says it when its disk is full. */
const full = (table: string) => [
  `create function full_disk() returns trigger language plpgsql as $$ begin raise exception 'could not extend file: No space left on device' using errcode = '53100'; end $$`,
  `create trigger full_disk before insert or update on ${table} for each row execute function full_disk()`,
]

describe.concurrent('the database', () => {
  it('falls silent for 15 s without closing: it is said, nothing is sent that another engine might send, nothing is lost', async () => {
    const s = await scene({ databaseGate: true, zones: 5 })
    const stop = s.feed(50)
    await pause(1000)
    s.databaseGate!.deaf = { up: true, down: true }
    await until(() => s.engine.storeState.trouble?.kind === 'silent', 'the silence to be noticed', 20)
    expect(s.engine.destinationConditions()[s.destinationId]!.sender).toMatchObject({
      state: 'trouble',
      reason: expect.stringContaining('does not answer'),
    })
    const arrivals = s.b.broker.truth.arrivals.length
    await pause(4000)
    expect(s.b.broker.truth.arrivals.length).toBe(arrivals)
    s.databaseGate!.deaf = { up: false, down: false }
    await pause(3000)
    stop()
    await s.settled(60)
    expect(s.counts()).toMatchObject({ dropped: 0, missing: 0, arrived: s.counts()!.produced })
    expect(s.counts()!.produced).toBeGreaterThan(500)
    await until(async () => (await s.events('database.silent')).length > 0, 'the silence to be told')
    await until(async () => s.engine.storeState.trouble === null && (await s.events('database.stores')).length > 0, 'the end to be told')
    // Told when it begins and when it is over, and not meanwhile: on a slow machine it may be so twice, or by another cause in between.
    expect((await s.events('database.stores')).length).toBeLessThanOrEqual(2)
    expect((await s.events('database.silent')).length).toBeLessThanOrEqual(3)
    expect((await s.events('database.stores'))[0]?.message).toContain('nothing was lost')
    expect(await s.events('outbox.full')).toEqual([])
    expect(s.ended()).toBe(0)
    await s.end()
  })

  it('has a full disk: that is what is said, and all comes back by itself when there is room', async () => {
    const s = await scene({ zones: 5 })
    const stop = s.feed(50)
    await pause(500)
    for (const text of full('outbox_segment')) await sql.raw(text).execute(s.t.db)
    await until(() => s.engine.storeState.trouble?.kind === 'full', 'the full disk to be noticed')
    await pause(3000)
    await sql.raw('drop trigger full_disk on outbox_segment').execute(s.t.db)
    await pause(1500)
    stop()
    await s.settled(60)
    expect(s.counts()).toMatchObject({ dropped: 0, missing: 0, arrived: s.counts()!.produced })
    expect((await s.events('database.full'))[0]?.message).toContain('The disk of the database is full')
    expect((await s.events('database.full')).length).toBe(1)
    await s.end()
  })

  it('is lost by one engine of two: it stops sending before the other begins, and ends when it learns of it', async () => {
    const s = await scene({ databaseGate: true, zones: 5 })
    const second = new Engine({
      db: openDatabase(s.t.url, 6),
      url: s.t.url,
      vault: s.t.vault,
      workFolder: folder('second'),
      takenOver: () => undefined,
    })
    // Of this process too: only the time without a sign of life frees the lease.
    const begins = second.start()
    const feed = setInterval(() => {
      for (const e of [s.engine, second])
        e.table.apply({
          handles: s.handles,
          values: s.handles.map(() => Math.random()),
          statuses: s.handles.map(() => 0),
          times: s.handles.map(() => Date.now()),
        })
    }, 20)
    await pause(1000)
    s.databaseGate!.cut(25)
    await begins
    await until(() => second.destinations.get(s.destinationId)?.present().state === 'running', 'the second to be up')
    const state = s.destination().present()
    expect(state.state).toBe('trouble')
    await pause(8000)
    // Nobody throws the other off the broker.
    const taken = (await sql<{ n: number }>`select count(*)::int as n from event where code = 'mqtt.taken-over'`.execute(s.t.db)).rows[0]!.n
    expect(taken).toBe(0)
    await until(() => s.ended() > 0, 'the first to learn of it', 40)
    clearInterval(feed)
    const line = () => second.lines().find((l) => l.publicationId === s.publicationId)!
    await until(() => second.ledger.account(line().delivery).counts().waiting === 0, 'every verdict', 60)
    const c = second.ledger.countsOf(line().delivery)!
    expect(c).toMatchObject({ missing: 0, dropped: 0, foreign: 0, altered: 0, arrived: c.produced })
    await second.stop()
    await s.end()
  })

  it('loses the row of one destination’s witness while that is saved: it tries again, and comes back by itself', async () => {
    const s = await scene()
    await sql`alter table witness_position rename to away`.execute(s.t.db)
    await s.save({ keepAliveS: 25, witnessClientId: 'reader-2' })
    await pause(2500)
    await sql`alter table away rename to witness_position`.execute(s.t.db)
    await s.up()
    s.change(5)
    await s.settled()
    expect(s.counts()).toMatchObject({ missing: 0 })
    expect(s.counts()!.arrived).toBeGreaterThan(0)
    await s.end()
  })
})

describe.concurrent('a compartment', () => {
  it('a plan that cannot run is that publication’s trouble: others start, and it is told', async () => {
    const s = await scene({ still: true })
    const ids = [s.publicationId]
    for (const name of ['b', 'c'])
      ids.push(await publish(s.t.db, { destinationId: s.destinationId, equipmentIds: s.equipmentIds, name, topic: `varnmoor/${name}/{unit}` }))
    await sql`update publication_version set plan = jsonb_set(plan, '{shape,kind}', '"of-a-later-version"') where publication_id = ${ids[0]!}`.execute(
      s.t.db,
    )
    await s.engine.start()
    await until(() => s.engine.publishers.size === 2, 'the others')
    s.change()
    await s.settled(30, ids[1])
    expect(s.engine.publicationConditions()[ids[0]!]).toMatchObject({ state: 'trouble', reason: expect.stringContaining("can't run") })
    expect((await s.events('publication.broken')).length).toBe(1)
    await s.end()
  })

  it('a publication whose messages cannot be made is in trouble itself, once told; its neighbour goes on, and so do the sources', async () => {
    const s = await scene()
    const other = await publish(s.t.db, {
      destinationId: s.destinationId,
      equipmentIds: s.equipmentIds,
      name: 'other',
      topic: 'varnmoor/other/{unit}',
    })
    await until(() => s.engine.publishers.has(other), 'the other')
    const runner = (s.engine.publishers.get(s.publicationId) as unknown as { runner: { encode: () => never } }).runner
    runner.encode = () => {
      throw new Error('an encoder that fails')
    }
    for (let i = 0; i < 10; i++) s.change()
    await s.settled(30, other)
    expect(s.counts(other)!.arrived).toBeGreaterThan(9)
    expect(s.engine.publicationConditions()[s.publicationId]).toMatchObject({
      state: 'trouble',
      reason: expect.stringContaining('an encoder that fails'),
    })
    expect((await s.events('publication.fails')).length).toBe(1)
    await s.end()
  })

  it('a free template that makes no JSON does not end the engine', async () => {
    const s = await scene({ settings: { lateS: 2 } })
    for (const [i, body] of ['{"a":-${n}}', '{"a":1${n}}'].entries()) {
      const shape = { kind: 'template', form: 'json', per: 'equipment', body, compression: 'none', bad: 'marked' } as never
      await publish(s.t.db, {
        destinationId: s.destinationId,
        equipmentIds: s.equipmentIds,
        name: `t${i}`,
        topic: `varnmoor/t${i}/{unit}`,
        shape,
      }).catch(() => undefined)
    }
    await pause(500)
    s.engine.table.apply({
      handles: s.handles,
      values: s.handles.map(() => -3),
      statuses: s.handles.map(() => 0),
      times: s.handles.map(() => Date.now()),
    })
    s.change(3)
    await s.settled()
    expect(s.counts()!.arrived).toBeGreaterThan(3)
    await s.end()
  })

  it('a destination whose credential cannot be opened holds what comes, says why, and sends when it can', async () => {
    const s = await scene({ still: true })
    const kept = (await sql<{ secret: Buffer }>`select secret from credential where name = 'sender'`.execute(s.t.db)).rows[0]!.secret
    await sql`update credential set secret = '\\x00' where name = 'sender'`.execute(s.t.db)
    await s.engine.start()
    await until(() => s.destination().present().state === 'trouble', 'the trouble')
    s.change(50)
    await until(() => s.destination().outbox.waiting >= 1 && s.counts()!.produced >= 1, 'what waits')
    expect(s.engine.publicationConditions()[s.publicationId]!.state).toBe('trouble')
    await sql`update credential set secret = ${kept} where name = 'sender'`.execute(s.t.db)
    await s.settled(60)
    expect(s.counts()!.acknowledged).toBe(s.counts()!.produced)
    await s.end()
  })

  it('a segment that cannot be read is told with what was in it, and the destination goes on', async () => {
    const s = await scene({ still: true })
    await sql`insert into outbox_segment (destination_id, segment, count, codec, raw_bytes, body, ordinal, ranges)
      values (${s.destinationId}, 1, 3, 0, 3, '\\x010203', 0, ${'1:1-3'})`.execute(s.t.db)
    await s.engine.start()
    await s.up()
    s.change(3)
    await s.settled()
    expect(s.counts()).toMatchObject({ unknown: 3, missing: 0 })
    expect(s.counts()!.arrived).toBe(s.counts()!.produced - 3)
    expect((await s.events('outbox.damaged'))[0]?.message).toContain('3 stored messages')
    await s.end()
  })

  it('configuration that changes all through a start makes one supervisor of a destination', async () => {
    const s = await scene({ still: true })
    const admin = new pg.Client(s.t.url)
    await admin.connect()
    let on = true
    const noise = (async () => {
      while (on) {
        await admin.query(`select pg_notify('embrik', 'destination')`)
        await pause(2)
      }
    })()
    await s.engine.start()
    await pause(500)
    on = false
    await noise
    await admin.end()
    await s.up()
    s.change(20)
    await s.settled()
    expect(s.counts()).toMatchObject({ doubled: 0, missing: 0, altered: 0 })
    expect((await s.events()).filter((e) => e.code === 'mqtt.taken-over')).toEqual([])
    expect((await s.events('destination.up')).length).toBe(1)
    await s.end()
  })
})

it('a listener to values that throws keeps no other from hearing, and no source from reading', () => {
  const table = new LiveTable()
  const heard: string[] = []
  table.onBatch(() => {
    heard.push('a')
    throw new Error('an encoder')
  })
  table.onBatch(() => heard.push('b'))
  table.apply({ handles: [1], values: [1], statuses: [0], times: [1] })
  expect(heard).toEqual(['a', 'b'])
})

it('Modbus reads at its rate whatever the wall clock does', async () => {
  let reads = 0
  const client = {
    read: async () => {
      reads++
      return [1]
    },
  } as never
  const sink = { values: () => undefined, mark: () => undefined, roundTrip: () => undefined, down: () => undefined } as never
  const block = { unit: 1, area: 'holding', offset: 0, count: 1, rateMs: 50, points: [] } as never
  const poller = new UnitPoller(client, [block], 1000, sink, () => undefined)
  await pause(500)
  const real = Date.now
  const clock = vi.spyOn(Date, 'now').mockImplementation(() => real() - 3_600_000)
  const before = reads
  await pause(1000)
  clock.mockRestore()
  poller.stop()
  expect(before).toBeGreaterThan(4)
  expect(reads - before).toBeGreaterThan(8)
})

it('an event is written once, though trimming the list fails', async () => {
  const s = await scene({ still: true })
  await addEvents(s.t.db, [])
  ;(s.engine.events as unknown as { written: number }).written = 2000
  await sql.raw(`create function no() returns trigger language plpgsql as $$ begin raise exception 'no'; end $$`).execute(s.t.db)
  await sql.raw('create trigger no before delete on event for each statement execute function no()').execute(s.t.db)
  s.engine.events.add({ severity: 'note', where: 'engine', subjectId: null, subject: 's', code: 'once', message: 'once', hint: '' })
  await s.engine.events.flush()
  await sql.raw('drop trigger no on event').execute(s.t.db)
  await s.engine.events.flush()
  expect((await s.events('once')).length).toBe(1)
  await s.end()
})
