import { sql } from 'kysely'
import { expect, it } from 'vitest'
import { Member } from '~/contract/equipment'
import { newId } from '~/contract/id'
import { Plan, PublicationDraft } from '~/contract/publication'
import { flatJsonSettings } from '~/contract/shape'
import { emptyTally } from '~/core/delivery/verdict'
import { listAsides } from '~/store/aside'
import { classVersions, listClasses } from '~/store/class'
import { openDatabase } from '~/store/database'
import { listEquipment } from '~/store/equipment'
import { loadStandings, wallBricks } from '~/store/ledger'
import { migrate } from '~/store/migrate'
import { allReads, getPublication, plansOf } from '~/store/publication'
import { toTakeBack } from '~/store/taken-back'
import { freshDatabase, until } from './support'

/** In the order in which they were made. */
const all = [
  '0001-first',
  '0002-verdicts',
  '0003-access',
  '0004-sources',
  '0005-properties',
  '0006-equipment',
  '0007-shapes',
  '0008-truth',
  '0009-resent',
  '0010-publishers',
  '0011-places',
  '0012-devices',
  '0013-announced',
  '0014-lanes',
  '0015-second-factor',
  '0016-sign-on',
  '0017-patterns',
  '0018-addresses',
  '0019-assurance',
  '0020-replacements',
  '0021-issued',
  '0022-tokens',
  '0023-broker-terms',
  '0024-renewal',
  '0025-hub-terms',
  '0026-memory',
  '0027-journal',
  '0028-clauses',
  '0029-recording',
  '0030-rows',
  '0031-proof-runs',
]
const since = (name: string) => all.slice(all.indexOf(name))

it('a ledger of the first version keeps its account: every message has one verdict, and the wall its bricks', async () => {
  const t = await freshDatabase(undefined, '0001-first')
  const [destination, publication] = [newId(), newId()]
  await sql`insert into destination (id, name, kind, settings, enabled) values (${destination}, 'd', 'mqtt', '{"host":"h"}', true)`.execute(t.db)
  await sql`insert into publication (id, name, draft, destination_id, state) values (${publication}, 'p', '{}', ${destination}, 'draft')`.execute(
    t.db,
  )
  await sql`insert into delivery (publication_id, destination_id) values (${publication}, ${destination})`.execute(t.db)
  // 1 to 10,000: number 7 and the window's edge are late, 9 came twice, 4095 to 4100 are missing, 20 dropped, 21 refused, 30 unknown, the last 5 wait.
  await sql`insert into ledger_total (delivery, stored_through, acknowledged, confirmed, late, doubled, missing, dropped, rejected, unknown) values (1, 10000,
    '{[1,20),[22,9998)}', '{[1,20),[22,30),[31,4095),[4101,9996)}', '{[7,8),[9,10),[8191,8193)}', '{[9,10)}', '{[4095,4101)}', '{[20,21)}', '{[21,22)}', '{[30,31)}')`.execute(
    t.db,
  )
  await sql`insert into ledger_slice (delivery, start, first_seq, produced, confirmed, late, missing, doubled, dropped, rejected, unknown) values
    (1, 10000, 1, 5000, 4991, 2, 6, 1, 1, 1, 1), (1, 20000, 5001, 5000, 4995, 2, 0, 0, 0, 0, 0)`.execute(t.db)
  await sql`insert into person (id, name, login, role, password_hash) values (${newId()}, 'n', 'n', 'viewer', 'x')`.execute(t.db)
  expect(await migrate(t.db)).toEqual(since('0002-verdicts'))

  const standing = (await loadStandings(t.db)).get(1)!
  expect(standing.storedThrough).toBe(10_000)
  expect(standing.madeAt).toBe(20_000)
  expect(standing.acknowledged).toBe(9995)
  expect(standing.known.count).toBe(9995)
  // Late and doubled: doubled is the worse.
  expect(standing.tally).toEqual({
    ...emptyTally(),
    confirmed: 9995 - 6 - 3 - 4,
    late: 3,
    doubled: 1,
    missing: 6,
    dropped: 1,
    rejected: 1,
    unknown: 1,
  })
  expect([...standing.odd.missing]).toEqual([[4095, 4100]])
  expect([...standing.odd.late]).toEqual([
    [7, 7],
    [9, 9],
    [8191, 8192],
  ])
  expect(standing.answered.has(21) && standing.answered.has(20)).toBe(true)
  expect(standing.answered.has(9999)).toBe(false)
  for (const { brick } of await wallBricks(t.db, 0, 1e6, 10_000)) {
    const { produced, foreign, start, ...verdicts } = brick
    expect(foreign).toBe(0)
    expect(produced - Object.values(verdicts).reduce((a, b) => a + b, 0)).toBe(start === 10_000 ? 0 : 5)
  }
  const { settings } = await t.db.selectFrom('destination').select('settings').executeTakeFirstOrThrow()
  expect(settings).toMatchObject({ host: 'h', protocol: '5', ackS: 20, lateS: 30, outboxHours: 0, journalHours: 24, journalMb: 256 })
  // What came later is as it was before it could be chosen.
  expect(settings).toMatchObject({ transport: 'tcp', otherHosts: '', proxy: '', aliases: 0, willTopic: '', sessionS: 86_400 })
  await t.drop()
})

it('bindings by name become bindings by identity, and what is live goes on as it was frozen', async () => {
  const t = await freshDatabase(undefined, '0005-properties')
  const [source, tag, cls, equipment, publication, destination] = Array.from({ length: 6 }, () => newId())
  await sql`insert into source (id, name, kind, settings, enabled) values (${source}, 's', 'simulated', '{}', false)`.execute(t.db)
  await sql`insert into tag (id, name, source_id, address, data_type) values (${tag}, 'a', ${source}, 'x', 'number')`.execute(t.db)
  const members = [
    { key: 'temperature', label: 'Temperature', dataType: 'number', unit: '°C' },
    { key: 'line', label: 'Line', dataType: 'text', unit: '' },
  ]
  await sql`insert into equipment_class (id, name, members, version) values (${cls}, 'Zone', ${JSON.stringify(members)}::jsonb, 3)`.execute(t.db)
  const bindings = { temperature: { kind: 'tag', tagId: tag }, line: { kind: 'constant', value: 'A' }, gone: { kind: 'constant', value: 1 } }
  await sql`insert into equipment (id, name, level, class_id, bindings)
    values (${equipment}, 'Varnmoor', 'enterprise', ${cls}, ${JSON.stringify(bindings)}::jsonb)`.execute(t.db)
  await sql`insert into destination (id, name, kind, settings) values (${destination}, 'd', 'mqtt', '{}')`.execute(t.db)
  await sql`insert into publication (id, name, draft, destination_id, state, live_version) values (${publication}, 'p', '{}', ${destination}, 'live', 1)`.execute(
    t.db,
  )
  const member = (key: string, handle: number | null, constant: unknown, deadband: unknown = null) => ({
    key,
    dataType: 'number',
    unit: '',
    handle,
    constant,
    deadband,
  })
  const plan = {
    equipment: [{ id: equipment, members: [member('temperature', 1, null, { kind: 'absolute', size: 0.5 }), member('line', null, 'A')] }],
  }
  await sql`insert into publication_version (publication_id, number, plan, made_by) values (${publication}, 1, ${JSON.stringify(plan)}::jsonb, 'x')`.execute(
    t.db,
  )
  expect(await migrate(t.db)).toEqual(since('0006-equipment'))

  const [zone] = await listClasses(t.db)
  const id = (key: string) => zone!.members.find((m) => m.key === key)!.id
  expect(zone!.members.map((m) => Member.parse(m))).toEqual(zone!.members)
  expect((await listEquipment(t.db))[0]!.bindings).toEqual({ [id('temperature')]: bindings.temperature, [id('line')]: bindings.line })
  expect((await classVersions(t.db, cls!)).map((v) => [v.version, v.draft.members])).toEqual([[3, zone!.members]])
  const kept = await t.db.selectFrom('publication_version').select('plan').executeTakeFirstOrThrow()
  expect(kept.plan.equipment[0]!.members.map((m) => m.fill)).toEqual([
    { kind: 'tag', handle: 1, width: 0.5, factor: 1, offset: 0 },
    { kind: 'constant', value: 'A' },
  ])
  await t.drop()
})

it('addresses over MQTT become addresses of that kind, in drafts and in what is live; whoever reads back reads what it read', async () => {
  const t = await freshDatabase(undefined, '0017-patterns')
  const [destination, publication, equipment] = Array.from({ length: 3 }, () => newId())
  await sql`insert into destination (id, name, kind, settings) values (${destination}, 'd', 'mqtt', '{}')`.execute(t.db)
  const flat = { topic: '{path}', topicRule: 'dashes', headers: [{ name: 'a', value: '{name}' }], contentType: 'a/b', responseTopic: 'r', expiryS: 5 }
  const draft = {
    name: 'p',
    equipmentIds: [equipment],
    trigger: { kind: 'change' },
    shape: flatJsonSettings,
    ...flat,
    key: '{name}',
    steersOnly: true,
    qos: 2,
    retain: true,
    destinationId: destination,
  }
  const waits = ['works/', { take: 'value', member: 0, filters: [], rule: 'slug' }]
  const message = { equipment: [0], members: null, steering: [], key: 'k', headers: [['a', 'x']], responseTopic: 'r' }
  const plan = {
    ...{ publicationId: publication, name: 'p', number: 1, delivery: 1, destinationId: destination, trigger: { kind: 'change' } },
    ...{ shape: flatJsonSettings, qos: 2, retain: true, contentType: 'a/b', expiryS: 5, filter: 'works/+', equipment: [] },
    messages: [
      { ...message, topic: waits },
      { ...message, topic: 'works/b' },
    ],
  }
  await sql`insert into publication (id, name, draft, destination_id, state, live_version)
    values (${publication}, 'p', ${JSON.stringify(draft)}::jsonb, ${destination}, 'live', 1)`.execute(t.db)
  await sql`insert into publication_version (publication_id, number, plan, made_by) values (${publication}, 1, ${JSON.stringify(plan)}::jsonb, 'x')`.execute(
    t.db,
  )
  await sql`insert into delivery (publication_id, destination_id) values (${publication}, ${destination})`.execute(t.db)
  expect(await migrate(t.db)).toEqual(since('0018-addresses'))

  const now = await getPublication(t.db, publication!)
  const { id: _i, version: _v, state: _s, liveVersion: _l, editedSinceLive: _e, ...drafted } = now
  expect(PublicationDraft.parse(drafted)).toEqual(drafted)
  expect(now.address).toEqual({ kind: 'mqtt', ...flat, qos: 2, retain: true })
  expect(now.steersOnly).toBe(true)
  const [live] = await plansOf(t.db, [{ publicationId: publication!, number: 1 }])
  expect(Plan.parse(live)).toEqual(live)
  expect(live!.messages.map((m) => [m.place, m.key])).toEqual([
    [waits, ''],
    ['works/b', ''],
  ])
  expect(live!.address).toMatchObject({ kind: 'mqtt', qos: 2, retain: true, expiryS: 5 })
  expect(await allReads(t.db)).toEqual(new Map([[destination, ['works/+']]]))
  await t.drop()
})

it('what went aside and what is still to be taken back is told in words of every destination', async () => {
  const t = await freshDatabase(undefined, '0018-addresses')
  const [destination, publication] = [newId(), newId()]
  await sql`insert into destination (id, name, kind, settings) values (${destination}, 'd', 'mqtt', '{}')`.execute(t.db)
  await sql`insert into publication (id, name, draft, destination_id, state) values (${publication}, 'p', '{}', ${destination}, 'paused')`.execute(
    t.db,
  )
  const { rows } = await sql<{ number: number }>`insert into delivery (publication_id, destination_id)
    values (${publication}, ${destination}) returning number`.execute(t.db)
  const delivery = rows[0]!.number
  for (const qos of [0, 1, 2])
    await sql`insert into aside (destination_id, delivery, seq, topic, qos, retain, properties, payload, code, message, hint)
      values (${destination}, ${delivery}, ${qos}, 't', ${qos}, true, '', ${Buffer.from('x')}, 'c', 'm', 'h')`.execute(t.db)
  await sql`insert into retained_topic (delivery, topic) values (${delivery}, 'works/old')`.execute(t.db)
  expect(await migrate(t.db)).toEqual(since('0019-assurance'))
  expect((await listAsides(t.db, destination)).map((a) => a.assurance)).toEqual(['once', 'acknowledged', 'sent'])
  expect(await toTakeBack(t.db)).toEqual(new Map([[delivery, [{ place: 'works/old', key: '' }]]]))
  await t.drop()
})

it('a migration that is cut by force leaves the tables as they were, and goes on when it is started again', async () => {
  const t = await freshDatabase(undefined, '0007-shapes')
  const tables = async () =>
    (
      await sql<{ c: string }>`select table_name || '.' || column_name as c from information_schema.columns where table_schema = 'public'`.execute(
        t.db,
      )
    ).rows
      .map((r) => r.c)
      .sort()
  const before = await tables()
  const cut = openDatabase(t.url, 2)
  // Somebody reads a table that it changes, so that it stands in the middle of its work when its connection is ended.
  await t.db.transaction().execute(async (tx) => {
    await sql`lock table ledger_slice in access share mode`.execute(tx)
    const ended = migrate(cut).then(
      () => 'done',
      (e: unknown) => String(e),
    )
    const waiting = await until(
      async () =>
        (await sql<{ pid: number }>`select pid from pg_stat_activity where datname = current_database() and wait_event_type = 'Lock'`.execute(t.db))
          .rows[0]?.pid,
      'it to stand in the middle',
    )
    await sql`select pg_terminate_backend(${waiting})`.execute(t.db)
    expect(await ended).not.toBe('done')
  })
  await cut.destroy()
  expect(await tables()).toEqual(before)
  expect(await migrate(t.db)).toEqual(since('0008-truth'))
  await t.drop()
})
