import { afterEach, describe, expect, it } from 'vitest'
import type { TableSettings } from '~/contract/destinations/table'
import type { Verdict } from '~/contract/live'
import { type Envelope, messageId } from '~/core/delivery/envelope'
import { packProperties, plainJson } from '~/core/delivery/properties'
import { chance } from '~/core/value/chance'
import { Engine } from '~/engine/engine'
import { listAsides } from '~/store/aside'
import { addDestination } from '~/store/destination'
import { allJudged, flowInto } from './lines'
import { bareDelivery } from './random-faults'
import { pause } from './scene'
import { folder, freshDatabase, until } from './support'
import { recordsDatabase, tableOf } from './tables'

// A whole engine and somebody else's database: the ledger against what lies in its tables, message by message, by plain SQL.

const TOTAL = 20_000
const names = ['kiln', 'dryers']

interface Made {
  seq: number
  value: number
}

const parts: { stop(): Promise<void> }[] = []
afterEach(async () => {
  for (const p of parts.splice(0).reverse()) await p.stop()
})

const started = async (t: Awaited<ReturnType<typeof freshDatabase>>) => {
  const engine = new Engine({ db: t.db, url: t.url, vault: t.vault, workFolder: folder('table') })
  await engine.start()
  return engine
}

interface Options {
  settings?: Partial<TableSettings>
  /** Columns of both tables; '': they are not there. */
  columns?: string
  keys?: string
}

async function begin({ settings: part = {}, columns = 'n bigint, value double precision, words text', keys = '' }: Options = {}) {
  const t = await freshDatabase()
  parts.push({ stop: () => t.drop() })
  const records = await recordsDatabase()
  parts.push(records)
  if (columns !== '') for (const name of names) await records.run(tableOf(name, columns))
  const settings = await records.settings(t, part)
  const { id } = await addDestination(t.db, { name: 'Records', kind: 'table', enabled: true, settings })
  const deliveries = await Promise.all(names.map((name) => bareDelivery(t, id, keys === '' ? name : `${name} by ${keys}`)))
  let engine = await started(t)
  parts.push({ stop: () => engine.stop() })
  const destination = () => engine.destinations.get(id)!
  const up = () => until(() => destination()?.present().state === 'running' && destination().witness?.view(), 'both to be up', 60)
  await up()
  const { code: installation } = await t.db.selectFrom('installation').select('code').executeTakeFirstOrThrow()
  const made = new Map<number, Made[]>(deliveries.map((d) => [d, []]))
  const random = chance(11)

  /** `rows` a message: one is an object, more are a list. */
  function offer(which: number, n: number, o: { more?: string; rows?: number; body?(seq: number, value: number): string } = {}): void {
    const delivery = deliveries[which]!
    const account = engine.ledger.account(delivery)
    const envelopes: Envelope[] = []
    for (let i = 0; i < n; i++) {
      const now = Date.now()
      const { seq, turn } = account.next(now)
      const value = Math.round(random() * 1e6) / 1000
      const row = o.body?.(seq, value) ?? `{"n":${seq},"value":${value}${o.more ?? ''}}`
      made.get(delivery)!.push({ seq, value })
      const payload = (o.rows ?? 1) === 1 ? row : `[${Array.from({ length: o.rows! }, () => row).join(',')}]`
      const times = { deviceAt: now, producedAt: now, madeMono: performance.now() }
      const properties = packProperties({ ...plainJson, how: keys })
      envelopes.push({ delivery, seq, turn, topic: names[which]!, payload, properties, assurance: 'acknowledged', ...times })
    }
    destination().outbox.offer(envelopes)
  }

  const flow = (total: number, during?: (round: number) => void | Promise<void>, rows = 1) =>
    flowInto({ count: names.length, offer: (i, n) => offer(i, n, { rows }), waiting: () => destination()?.outbox.waiting ?? null }, total, during)

  const settled = (seconds = 300) => allJudged(() => engine, deliveries, seconds)

  /** Whose verdict is not what lies in the tables. */
  async function wrong(rows = 1, ends: (m: Made) => readonly Verdict[] | null = () => null) {
    const out: object[] = []
    for (const [i, d] of deliveries.entries()) {
      const there = new Map<string, { n: number; sums: string[] }>()
      for (const r of await records.run(`select split_part(embrik_id, '/', 1) as id, n, value from ${names[i]} where embrik_id is not null`)) {
        const one = there.get(r.id!) ?? { n: 0, sums: [] }
        one.n++
        one.sums.push(`${r.n} ${r.value}`)
        there.set(r.id!, one)
      }
      for (const m of made.get(d)!) {
        const found = there.get(messageId(installation, d, m.seq))
        const whole = found?.sums.every((s) => s === `${m.seq} ${m.value}`)
        const is = engine.ledger.account(d).verdict(m.seq)
        const should = ends(m) ?? (!found ? ['missing'] : !whole || found.n % rows !== 0 ? ['altered'] : found.n > rows ? ['doubled'] : ['confirmed'])
        if (!should.includes(is as Verdict)) out.push({ d, seq: m.seq, is, should, found })
      }
    }
    return out
  }
  return {
    ...{ t, records, settings, id, deliveries, made, flow, offer, settled, wrong, up, destination },
    counts: () => deliveries.map((d) => engine.ledger.account(d).counts()),
    verdicts: (which: number) => made.get(deliveries[which]!)!.map((m) => engine.ledger.account(deliveries[which]!).verdict(m.seq)),
    asides: (n: number) =>
      until(async () => {
        const all = await listAsides(t.db, id)
        return all.length >= n ? all : null
      }, `${n} to be aside`),
    /** Stops the engine as a signal would, and starts another one. */
    async again() {
      await engine.stop()
      engine = await started(t)
    },
  }
}

describe('20,000 messages as rows', () => {
  it.each([1, 3])('%i a message: each confirmed, and in the tables once, in order', { timeout: 900_000 }, async (rows) => {
    const s = await begin()
    await s.flow(rows === 1 ? TOTAL : TOTAL / 4, undefined, rows)
    await s.settled()
    expect((await s.wrong(rows)).slice(0, 5)).toEqual([])
    for (const c of s.counts()) expect(c).toMatchObject({ missing: 0, doubled: 0, foreign: 0, unknown: 0, disordered: 0 })
    for (const name of names) {
      const behind = `select count(*) as n from (select n, lag(n) over (order by embrik_row) as before from ${name}) x where n < before`
      expect(await s.records.run(behind)).toEqual([{ n: 0 }])
    }
  })

  it('go through cuts, lost answers, a server that ends its connections and a locked table: once each, nothing missing', {
    timeout: 1_200_000,
  }, async () => {
    const s = await begin({ settings: { ackS: 3 } })
    const { gate, run, endAll } = s.records
    await s.flow(TOTAL, async (round) => {
      if (round % 40 === 5) gate.cut(0.3)
      if (round % 40 === 15) {
        // What was committed is not answered.
        gate.deaf.down = true
        await pause(150)
        gate.cut(0.1)
        gate.deaf.down = false
      }
      if (round % 40 === 25) await endAll()
      if (round % 80 === 35) {
        await run('begin')
        await run('lock table kiln in exclusive mode')
        await pause(3500)
        await run('rollback')
      }
      if (round % 5 === 0) await pause(30)
    })
    await s.settled(500)
    expect((await s.wrong()).slice(0, 5)).toEqual([])
    for (const c of s.counts()) expect(c).toMatchObject({ missing: 0, doubled: 0, foreign: 0, unknown: 0, dropped: 0 })
  })

  it('that the database drops, doubles or alters by itself are found, each one', { timeout: 1_200_000 }, async () => {
    const s = await begin({ settings: { lateS: 5 } })
    for (const name of names) {
      await s.records.run(`alter table ${name} drop constraint ${name}_embrik_id_key`)
      await s.records.run(`create function mischief_${name}() returns trigger language plpgsql as $$ begin
        if pg_trigger_depth() > 1 then return new; end if;
        if new.n % 97 = 1 then return null; end if;
        if new.n % 89 = 2 then new.value := new.value + 1; end if;
        if new.n % 83 = 3 then insert into ${name} (embrik_id, n, value) values (new.embrik_id, new.n, new.value); end if;
        return new; end $$`)
      await s.records.run(`create trigger mischief before insert on ${name} for each row execute function mischief_${name}()`)
    }
    await s.flow(TOTAL)
    await s.settled(500)
    expect((await s.wrong()).filter((w) => !('is' in w && w.is === 'late')).slice(0, 5)).toEqual([])
    for (const c of s.counts()) for (const v of ['missing', 'doubled', 'altered'] as const) expect(c[v]).toBeGreaterThan(0)
  })

  it('survive an engine that is stopped and started with messages under way', { timeout: 1_200_000 }, async () => {
    const s = await begin()
    for (let i = 0; i < 3; i++) {
      s.records.gate.slowMs = 20
      await s.flow(1000)
      await s.again()
      s.records.gate.slowMs = 0
      await s.up()
      await s.flow(TOTAL / 10)
    }
    await s.settled()
    expect((await s.wrong()).slice(0, 5)).toEqual([])
    for (const c of s.counts()) expect(c).toMatchObject({ missing: 0, doubled: 0, foreign: 0, unknown: 0 })
  })
})

it('a row that is refused goes aside alone, with what the database said, and the rest of its statement goes on', { timeout: 600_000 }, async () => {
  const s = await begin({
    columns: 'n smallint not null check (n <> 13), value double precision, at timestamptz, kind varchar(8)',
    settings: { lingerMs: 200 },
  })
  s.offer(0, 20)
  s.offer(0, 1, { more: ',"kind":"far too long a word"' })
  s.offer(0, 1, { body: (n) => `{"n":${n},"value":"warm"}` })
  s.offer(0, 1, { body: () => '{"value":1}' })
  s.offer(0, 1, { body: () => '{"n":40000}' })
  s.offer(0, 1, { body: () => '{"n":13}' })
  s.offer(0, 1, { body: (n) => `{"n":${n},"at":"yesterday, about noon"}` })
  s.offer(0, 1, { body: (n) => `{"n":${n},"colour":"red"}` })
  s.offer(0, 1, { body: (n) => `{"n":${n},"kind":"a\\u0000b"}` })
  s.offer(0, 1, { body: () => '7' })
  s.offer(0, 1, { body: (n) => `{"n":${n},"embrik_id":"mine"}` })
  s.offer(0, 20)
  await s.settled()
  const asides = await s.asides(11)
  expect(asides.map((a) => a.code).sort()).toEqual(
    [
      ...['table.too-long', 'table.type', 'table.empty', 'table.out-of-range', 'table.rule', 'table.rule', 'table.type'],
      ...['table.no-column', 'table.text', 'table.no-rows', 'table.name'],
    ].sort(),
  )
  for (const a of asides) expect(a.message.length).toBeGreaterThan(20)
  expect(s.counts()[0]).toMatchObject({ rejected: 11, missing: 0, doubled: 0, altered: 0 })
})

it('a table that is not there is waited for, and the others go on; then nothing is lost', { timeout: 600_000 }, async () => {
  const s = await begin({ settings: { lateS: 5 } })
  await s.records.run('drop table dryers')
  s.offer(0, 100)
  s.offer(1, 100)
  await until(() => s.counts()[0]!.confirmed === 100, 'the others to go on', 60)
  await until(() => s.destination().present().reason.includes('There is no table dryers; the rest goes on'), 'to be told so', 60)
  await s.records.run(tableOf('dryers', 'n bigint, value double precision'))
  await s.settled()
  expect(await s.records.run('select count(*) as n from dryers')).toEqual([{ n: 100 }])
  expect(s.counts()[1]).toMatchObject({ arrived: 100, missing: 0, rejected: 0, dropped: 0, doubled: 0 })
})

it('tables and columns are made as messages need them, with types for what is in them', { timeout: 600_000 }, async () => {
  const s = await begin({ columns: '', settings: { make: true, lingerMs: 50, lateS: 30 } })
  s.offer(0, 10)
  await s.settled()
  const more = ',"at":"2026-11-27T06:00:00.250Z","on":true,"order":"K-17","limits":{"high":9},"big":9007199254740993'
  s.offer(0, 10, { more })
  await s.settled()
  const types = await s.records.run(
    `select column_name as name, data_type as type from information_schema.columns where table_name = 'kiln' order by ordinal_position`,
  )
  expect(types.map((c) => `${c.name} ${c.type}`)).toEqual([
    'embrik_row bigint',
    'embrik_id text',
    'n double precision',
    'value double precision',
    'at timestamp with time zone',
    'on boolean',
    'order text',
    'limits jsonb',
    'big numeric',
  ])
  expect(await s.records.run(`select big::text as big from kiln where big is not null limit 1`)).toEqual([{ big: '9007199254740993' }])
  // The witness finds the table some time after it was made: there was nothing in it before.
  expect(s.counts()[0]).toMatchObject({ confirmed: 20, missing: 0, altered: 0, doubled: 0, rejected: 0, unknown: 0 })
})

it('one row for each key holds what came last; what was replaced before it was read is unknown, and nothing is missing', {
  timeout: 600_000,
}, async () => {
  const s = await begin({ columns: 'unit text unique, n bigint, value double precision, extra text', keys: 'unit', settings: { lateS: 3 } })
  for (let round = 0; round < 20; round++) {
    s.offer(0, 100, { body: (n, value) => `{"unit":"zone ${n % 7}","n":${n}${n % 3 === 0 ? '' : `,"value":${value}`}}` })
    await pause(50)
  }
  await s.settled()
  const rows = await s.records.run('select unit, n from kiln order by n')
  expect(rows.map((r) => Number(r.n))).toEqual([1994, 1995, 1996, 1997, 1998, 1999, 2000].map((n) => n))
  const counts = s.counts()[0]!
  expect(counts).toMatchObject({ missing: 0, doubled: 0, altered: 0, foreign: 0, rejected: 0 })
  expect(counts.confirmed + counts.late).toBeGreaterThan(0)
  expect(counts.confirmed + counts.unknown + counts.late).toBe(2000)
  // Columns that a message does not have stay as they were.
  expect(await s.records.run('select count(*) as n from kiln where value is null')).toEqual([{ n: 0 }])
})

it('a message that cannot stand in its table goes aside, and keeps nobody waiting', { timeout: 600_000 }, async () => {
  const keyed = await begin({ columns: 'unit text unique, n bigint, value double precision', keys: 'unit', settings: { lateS: 3 } })
  keyed.offer(0, 1, { body: () => '[{"unit":"a","n":1},{"unit":"a","n":2}]' })
  keyed.offer(0, 1, { body: () => '{"n":1}' })
  keyed.offer(0, 1, { body: () => '{"unit":null,"n":1}' })
  keyed.offer(0, 1, { body: (n) => `{"unit":"a","n":${n}}` })
  await keyed.settled()
  expect((await keyed.asides(3)).map((a) => a.code).sort()).toEqual(['table.no-key-value', 'table.no-key-value', 'table.same-key'])
  expect(await keyed.records.run('select n from kiln')).toEqual([{ n: 4 }])
  const bare = await begin({ settings: { idColumn: '', lateS: 3 } })
  bare.offer(0, 1, { body: () => '{}' })
  await bare.settled()
  bare.offer(0, 1, { body: () => '{"n":null}' })
  await bare.records.run('alter table dryers enable row level security')
  await bare.records.run('alter table dryers force row level security')
  await bare.records.run('create policy warm on dryers using (true) with check (value > 0)')
  bare.offer(1, 1, { body: (n) => `{"n":${n},"value":-1}` })
  bare.offer(1, 1, { body: (n) => `{"n":${n},"value":1}` })
  await bare.settled()
  expect((await bare.asides(2)).map((a) => a.code).sort()).toEqual(['table.empty', 'table.rule'])
  expect(bare.verdicts(0)).toEqual(['rejected', 'confirmed'])
  expect(bare.verdicts(1)).toEqual(['rejected', 'confirmed'])
})

it('ids of strangers that claim millions of rows cost nothing, and hide nothing', { timeout: 600_000 }, async () => {
  const s = await begin()
  const [mine] = s.deliveries
  s.offer(0, 100, { rows: 2 })
  await s.settled()
  await s.records.run(`insert into kiln (embrik_id, n) select 'x.' || i || '/1/9999999', 1 from generate_series(1, 500) i`)
  await s.records.run(`insert into kiln (embrik_id, n) values ('x/0/0', 1), ('x/7/3', 1), ('/1/2', 1), ('', 1), ('7f.${mine}.1/2', 1)`)
  s.offer(0, 300, { rows: 2 })
  await s.settled()
  expect(s.counts()[0]).toMatchObject({ confirmed: 400, missing: 0, altered: 0, doubled: 0, unknown: 0 })
  // Two of them claim to be rows of one message.
  await until(() => s.counts()[0]!.foreign === 504, 'strangers to be counted')
})

it('without a column of the id messages are known by table and values', { timeout: 600_000 }, async () => {
  const s = await begin({ settings: { idColumn: '' } })
  for (let i = 0; i < 20; i++) {
    s.offer(i % 2, 50)
    await pause(20)
  }
  await s.records.run(`insert into kiln (n, value) values (-1, 7)`)
  await s.settled()
  await until(() => s.counts()[0]!.foreign === 1, 'what somebody else wrote', 30)
  for (const c of s.counts()) expect(c).toMatchObject({ missing: 0, doubled: 0, altered: 0, unknown: 0 })
})

it('a table that is emptied, or comes back as it was before, makes nobody guilty', { timeout: 600_000 }, async () => {
  const s = await begin({ settings: { lateS: 4 } })
  s.offer(0, 300)
  await s.settled()
  await s.records.run('truncate kiln restart identity')
  s.offer(0, 300)
  await s.settled()
  await s.records.run('create table kept as select * from kiln')
  s.offer(0, 300)
  await s.settled()
  s.records.gate.cut(1)
  await s.records.run('delete from kiln where embrik_row not in (select embrik_row from kept)')
  await s.records.run(`select setval(pg_get_serial_sequence('kiln', 'embrik_row'), greatest(1, (select max(embrik_row) from kept)))`)
  s.offer(0, 400)
  await s.settled()
  expect(s.counts()[0]).toMatchObject({ missing: 0, doubled: 0, altered: 0, foreign: 0 })
  s.offer(0, 100)
  await s.settled()
  expect(s.verdicts(0).slice(-100)).toEqual(Array(100).fill('confirmed'))
})

it('rows of others that are written slowly beside ours hide none of ours', { timeout: 600_000 }, async () => {
  const s = await begin()
  for (let i = 0; i < 6; i++) {
    await s.records.run('begin')
    await s.records.run(`insert into kiln (n, value) select -1, 1 from generate_series(1, 40)`)
    s.offer(0, 200)
    await pause(600)
    await s.records.run(i % 2 === 0 ? 'commit' : 'rollback')
  }
  await s.settled()
  await until(() => s.counts()[0]!.foreign === 120, 'what others wrote, once it was to be seen', 60)
  expect(s.counts()[0]).toMatchObject({ confirmed: 1200, missing: 0, doubled: 0, altered: 0, unknown: 0 })
})

it('odd values and names of columns come through as they are, or go aside and say why', { timeout: 600_000 }, async () => {
  const s = await begin({
    columns: 'n bigint, value double precision, words text, "__proto__" text, "odd "" col" jsonb',
    settings: { lingerMs: 100 },
  })
  const fine = [
    ...[
      '""',
      '"\\u2028 \\"{}[]\\\\ \ud83d\ude00"',
      '"null"',
      '"NaN"',
      '"007"',
      '"1e5"',
      '"{\\"a\\": 1}"',
      '"2026-11-27T06:00:00Z"',
      '"1969-12-31T23:59:59.999Z"',
    ],
    `"${'k'.repeat(60_000)}"`,
  ].map((words) => `,"words":${words}`)
  const odd = [',"__proto__":"mine"', ',"odd \\" col":{"deep":[1,{"x":null}]}', ',"odd \\" col":[]', ',"words":21.50', ',"words":true']
  const numbers = ['5e-324', '-0', '1.7976931348623157e308', '9007199254740993', '0.1']
  for (const more of [...fine, ...odd]) s.offer(0, 1, { more })
  for (const value of numbers) s.offer(0, 1, { body: (n) => `{"n":${n},"value":${value === '9007199254740993' ? 1 : value},"words":${value}}` })
  s.offer(0, 1, { body: () => '{"n":9223372036854775807,"value":1}' })
  s.offer(0, 1, { body: () => '{"n":9223372036854775808,"value":1}' })
  s.offer(0, 1, { more: ',"words":"\\ud800 alone"' })
  await s.settled()
  const well = fine.length + odd.length + numbers.length + 1
  expect(s.verdicts(0).slice(0, well)).toEqual(Array(well).fill('confirmed'))
  expect(s.verdicts(0).slice(well)).toEqual(['rejected', 'rejected'])
  expect((await s.asides(2)).map((a) => a.code).sort()).toEqual(['table.out-of-range', 'table.type'])
})

it('a database that takes octets and says nothing is left, and its messages go again', { timeout: 600_000 }, async () => {
  const s = await begin({ settings: { ackS: 2, lateS: 5 } })
  for (const way of ['up', 'down'] as const) {
    s.records.gate.deaf[way] = true
    s.offer(0, 30)
    await until(() => s.destination().present().state === 'trouble', 'the silence to be told')
    s.records.gate.deaf[way] = false
    await s.up()
    await s.settled()
  }
  expect(await s.wrong(1, () => ['confirmed', 'late', 'unknown'])).toEqual([])
  expect(s.counts()[0]).toMatchObject({ missing: 0, doubled: 0, altered: 0 })
  await until(
    async () =>
      Number(
        (await s.records.admin(`select count(*) as n from pg_stat_activity where application_name = 'embrik' and datname = current_database()`))[0]!
          .n,
      ) <= 1,
    'connections of before to be gone',
  )
})
