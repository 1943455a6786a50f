import { sql } from 'kysely'
import { afterEach, expect, it } from 'vitest'
import type { JournalMessage, JournalPage } from '~/contract/journal'
import type { Replay } from '~/contract/replay'
import { Engine } from '~/engine/engine'
import { openDatabase } from '~/store/database'
import { freeze } from '~/store/freeze'
import { goLive } from '~/store/going-live'
import { getPublication } from '~/store/publication'
import { changePublication } from '~/store/publication-edit'
import { scene } from './scene'
import { until } from './support'

let s: Awaited<ReturnType<typeof scene>>
afterEach(() => s.end())

const NEVER = 1e6

/** Everything that went through is in the journal. */
const written = () =>
  until(
    async () => {
      const { rows } = await sql<{ n: number }>`select count(*)::int as n from outbox_segment where freed_at is null`.execute(s.t.db)
      return rows[0]!.n === 0
    },
    'all to be in the journal',
    30,
  )

async function everything(query: Parameters<Engine['journal']['list']>[1] = {}, engine = s.engine): Promise<JournalMessage[]> {
  const all: JournalMessage[] = []
  let before: string | null = null
  do {
    const page: JournalPage = await engine.journal.list(s.destinationId, { ...query, ...(before !== null && { before }) })
    all.push(...page.messages)
    before = page.next
  } while (before !== null)
  return all
}

const numbers = (list: readonly JournalMessage[]) => list.map((m) => m.seq)

it('each message that went through is there, newest first, with its way and its verdict, and opens as it was sent', {
  timeout: 120_000,
}, async () => {
  s = await scene({ broker: { keyOf: (m) => (m.topic.startsWith('varnmoor/one/') ? m.payload.toString() : null) }, zones: 3 })
  s.change(90)
  await s.settled()
  await written()
  const all = await everything()
  expect(numbers(all)).toEqual(Array.from({ length: 270 }, (_, n) => 270 - n))
  for (const m of all) {
    expect(m).toMatchObject({ verdict: 'confirmed', publicationId: s.publicationId, hops: { sendings: 1 } })
    const { sentAt, answeredAt, seenAt } = m.hops!
    expect(m.deviceAt).toBeLessThanOrEqual(m.producedAt + 1)
    expect(sentAt!).toBeGreaterThanOrEqual(m.producedAt)
    expect(answeredAt!).toBeGreaterThanOrEqual(sentAt!)
    expect(seenAt!).toBeGreaterThanOrEqual(sentAt!)
    expect(seenAt! - m.producedAt).toBeLessThan(60_000)
  }
  const arrived = new Set(s.b.broker.truth.arrivals.filter((a) => a.key !== null).map((a) => a.key))
  for (const m of [all[0]!, all[133]!, all[269]!]) {
    for (const segment of [null, m.segment]) {
      const whole = await s.engine.journal.open(s.destinationId, m, segment)
      expect(whole).toMatchObject({ seq: m.seq, topic: m.topic, version: 1, message: { read: { problem: '' } } })
      expect(arrived.has(Buffer.from(whole.octets64, 'base64').toString())).toBe(true)
      expect(whole.octets).toBe(Buffer.from(whole.octets64, 'base64').length)
    }
  }
  await expect(s.engine.journal.open(s.destinationId, { delivery: all[0]!.delivery, seq: 271 }, null)).rejects.toMatchObject({
    failure: { code: 'journal.gone' },
  })
  await expect(s.engine.journal.list(s.destinationId, { before: 'not a place' })).rejects.toMatchObject({ failure: { code: 'journal.place' } })

  const [unit] = [...new Set(all.map((m) => m.topic))].sort()
  expect(await everything({ text: unit! })).toHaveLength(90)
  expect(await everything({ text: 'nothing/like/it' })).toEqual([])
  expect(await everything({ publicationId: s.publicationId })).toHaveLength(270)
  const middle = all[120]!.storedAt
  const older = await everything({ until: middle })
  expect(numbers(older)).toEqual(numbers(all.filter((m) => m.storedAt <= middle)))
  expect(await everything({ until: 1000 })).toEqual([])
  const [first] = (await s.engine.journal.list(s.destinationId, { payloads: '1' })).messages
  expect(arrived.has(Buffer.from(first!.payload!, 'base64').toString())).toBe(true)
})

it('says of each what became of it: sent twice, given up, never seen', { timeout: 120_000 }, async () => {
  s = await scene({ settings: { lateS: 2 } })
  s.change()
  await s.settled()
  s.gate.cut(NEVER)
  await until(() => s.destination().present().state !== 'running', 'the cut')
  s.change(3)
  await until(async () => (await everything()).length === 4, 'them to be stored')
  expect((await everything()).map((m) => [m.seq, m.verdict])).toEqual([
    [4, 'waiting'],
    [3, 'waiting'],
    [2, 'waiting'],
    [1, 'confirmed'],
  ])
  const { delivery } = (await everything())[0]!
  expect(await s.engine.waiting.clear(s.destinationId, { message: { delivery, seq: 3 } })).toBe(1)
  s.gate.mend()
  await s.settled()
  s.faults({ drop: 1 })
  s.change()
  await until(() => s.counts()?.missing === 1, 'one to be missing', 30)
  // On a busy machine the cut takes so long that what waited is late.
  const told = new Map((await everything()).map((m) => [m.seq, m.verdict === 'late' ? 'confirmed' : m.verdict]))
  expect(Object.fromEntries(told)).toEqual({ 1: 'confirmed', 2: 'confirmed', 3: 'dropped', 4: 'confirmed', 5: 'missing' })
  const dropped = await s.engine.journal.open(s.destinationId, { delivery, seq: 3 }, null)
  expect(dropped.hops?.sentAt ?? null).toBe(null)
  const missing = await s.engine.journal.open(s.destinationId, { delivery, seq: 5 }, null)
  expect(missing.hops).toMatchObject({ sendings: 1, sentAt: expect.any(Number), answeredAt: expect.any(Number), seenAt: null })
})

it('is there after a new start, and nothing of it goes out again', { timeout: 120_000 }, async () => {
  s = await scene({ zones: 2 })
  s.change(20)
  await s.settled()
  await written()
  const before = await everything()
  const sent = s.b.broker.truth.arrivals.length
  await s.engine.stop()
  const db = openDatabase(s.t.url, 6)
  const engine = new Engine({ db, url: s.t.url, vault: s.t.vault, workFolder: s.engine.options.workFolder })
  try {
    await engine.start()
    await until(() => engine.destinations.get(s.destinationId)?.present().state === 'running', 'it to be up')
    expect(engine.destinations.get(s.destinationId)!.outbox.waiting).toBe(0)
    expect(await everything({}, engine)).toEqual(before)
    expect(s.b.broker.truth.arrivals.length).toBe(sent)
  } finally {
    await engine.stop()
    await db.destroy()
  }
})

it('a row that is damaged hides none of the others', { timeout: 120_000 }, async () => {
  s = await scene()
  for (let i = 0; i < 4; i++) {
    s.change()
    await s.settled()
  }
  await written()
  await sql`update outbox_segment set body = '\\x07' where segment = 2`.execute(s.t.db)
  await sql`update outbox_segment set hops = '\\x0102' where segment = 3`.execute(s.t.db)
  const all = await everything()
  expect(numbers(all)).toEqual([4, 3, 1])
  expect(all[1]!.hops).toBe(null)
  await expect(s.engine.journal.open(s.destinationId, { delivery: all[0]!.delivery, seq: 2 }, null)).rejects.toMatchObject({
    failure: { code: 'journal.gone' },
  })
})

it('keeps no more than it may, the newest; with no room for any it keeps nothing, and what waits is there all the same', {
  timeout: 120_000,
}, async () => {
  s = await scene({ settings: { journalMb: 1 } })
  const { journal } = s.destination().outbox
  for (let i = 0; i < 40; i++) {
    s.change()
    await s.settled()
  }
  await written()
  const all = await everything()
  expect(all).toHaveLength(40)
  journal.setLimits({ bytes: journal.bytes / 2, ageMs: 3_600_000 })
  await until(async () => (await everything()).length <= 21, 'the oldest to go')
  expect(numbers(await everything())[0]).toBe(40)
  expect((await everything()).length).toBeGreaterThanOrEqual(18)
  journal.setLimits({ bytes: 1e6, ageMs: 1 })
  await until(async () => (await everything()).length === 0, 'all to go by their age')
  await s.save({ journalHours: 0 })
  await until(() => s.destination().destination.settings.journalHours === 0, 'the settings')
  await s.up()
  s.change(3)
  await s.settled()
  await until(async () => (await everything()).length === 0, 'nothing to be kept')
  const { rows } = await sql<{ n: number }>`select count(*)::int as n from outbox_segment`.execute(s.t.db)
  expect(rows[0]!.n).toBe(0)
})

it('makes room where the disk is full, says how much, and the ledger is right', { timeout: 120_000 }, async () => {
  s = await scene({ zones: 5 })
  s.change(40)
  await s.settled()
  await written()
  expect(await everything()).toHaveLength(200)
  const full = sql.raw(
    `create function full_disk() returns trigger language plpgsql as $$ begin raise exception 'could not extend file: No space left on device' using errcode = '53100'; end $$`,
  )
  await full.execute(s.t.db)
  await sql.raw('create trigger full_disk before insert or update on outbox_segment for each row execute function full_disk()').execute(s.t.db)
  s.change(10)
  await until(() => s.engine.storeState.trouble?.kind === 'full', 'the full disk to be noticed')
  await until(async () => (await everything()).length === 0, 'the journal to make room', 30)
  await sql.raw('drop trigger full_disk on outbox_segment').execute(s.t.db)
  await s.settled()
  expect(s.counts()).toMatchObject({ produced: 250, arrived: 250, missing: 0, dropped: 0 })
  await until(async () => (await s.events('journal.full-disk')).length === 1, 'it to be told')
  expect((await s.events('journal.full-disk'))[0]!.message).toContain('200 messages left the journal')
  s.change()
  await s.settled()
  await until(async () => (await everything()).length >= 5, 'it to keep again')
})

it('what it holds goes once more through a draft: the same where nothing is edited, else what differs, and nothing goes out', {
  timeout: 120_000,
}, async () => {
  s = await scene({ zones: 2 })
  const from = Date.now()
  for (let i = 0; i < 20; i++) {
    s.change()
    await s.settled()
  }
  const draft = await getPublication(s.t.db, s.publicationId)
  const sent = s.b.broker.truth.arrivals.length
  const span = { from, to: Date.now() }
  const same = JSON.parse(await s.engine.replay(s.publicationId, { draft, ...span })) as Replay
  expect(same).toMatchObject({ same: 40, changed: 0, held: 0, added: 0, sent: { messages: 40 }, edited: { messages: 40 } })
  expect(same.edited.octets).toBe(same.sent.octets)
  const steps = [{ kind: 'keep' as const, condition: 'n > 15.0', unknown: 'drop' as const }]
  const kept = JSON.parse(await s.engine.replay(s.publicationId, { draft: { ...draft, steps }, ...span })) as Replay
  expect(kept).toMatchObject({ same: 10, held: 30, added: 0 })
  const wrong = { draft: { ...draft, steps: [{ ...steps[0]!, condition: 'nobody > 1.0' }] }, ...span }
  await expect(s.engine.replay(s.publicationId, wrong)).rejects.toMatchObject({ failure: { code: 'replay.stops' } })
  await expect(s.engine.replay(s.publicationId, { draft, from: 1000, to: 2000 })).rejects.toMatchObject({ failure: { code: 'replay.nothing' } })
  expect(s.b.broker.truth.arrivals.length).toBe(sent)
})

it('the value of a tag is followed to the message that carried it, over versions; of what did not go it is said', { timeout: 120_000 }, async () => {
  s = await scene({ zones: 3 })
  s.change(20)
  await s.settled()
  const [, second, third] = s.handles as [number, number, number]
  const only = (handle: number, value: number) => s.engine.table.apply({ handles: [handle], values: [value], statuses: [0], times: [Date.now()] })
  const valueIn = async (m: JournalMessage) => {
    const { octets64 } = await s.engine.journal.open(s.destinationId, m, m.segment)
    return (JSON.parse(Buffer.from(octets64, 'base64').toString()) as { n: number }).n
  }
  const from = Date.now()
  only(second, 777)
  only(second, 778)
  only(third, 5)
  await s.settled()
  const [found, ...others] = await s.engine.journal.follow(second, from)
  expect(others).toEqual([])
  expect(found).toMatchObject({ publicationId: s.publicationId, destinationId: s.destinationId, destination: 'Broker', looked: true })
  expect(found!.members).toHaveLength(1)
  expect(found!.message).toMatchObject({ verdict: 'confirmed', publicationId: s.publicationId })
  expect(await valueIn(found!.message!)).toBe(777)
  // What is made later is not it, and what another tag does neither.
  const after = await s.engine.journal.follow(third, from)
  expect(await valueIn(after[0]!.message!)).toBe(5)
  expect((await s.engine.journal.follow(third, Date.now() + 1))[0]).toMatchObject({ message: null, looked: true, members: found!.members })

  // By a later version it goes elsewhere; what went before is found all the same.
  const live = async (version: number, topic: string) => {
    const { id, version: _v, state: _s, liveVersion: _l, editedSinceLive: _e, ...draft } = await getPublication(s.t.db, s.publicationId)
    await changePublication(s.t.db, id, { ...draft, address: { ...draft.address, topic } as typeof draft.address })
    await goLive(s.t.db, id, 'test', freeze)
    await until(() => s.engine.publishers.get(id)?.plan.number === version, `version ${version}`)
    await s.settled()
    return Date.now()
  }
  let then = await live(2, 'varnmoor/two/{unit}')
  only(second, 900)
  await s.settled()
  const [now] = await s.engine.journal.follow(second, then)
  expect(now).toMatchObject({ shared: false, message: { topic: expect.stringContaining('varnmoor/two/') } })
  expect(await valueIn(now!.message!)).toBe(900)
  expect(await valueIn((await s.engine.journal.follow(second, from))[0]!.message!)).toBe(777)
  // Where all go to one place nothing tells whose a message is, and that is said.
  then = await live(3, 'varnmoor/three')
  only(third, 6)
  await s.settled()
  expect((await s.engine.journal.follow(second, then))[0]).toMatchObject({ shared: true, message: { topic: 'varnmoor/three' } })

  // Of what waits the message is there too, and has no verdict yet.
  s.gate.cut(60)
  await until(() => s.destination().present().state === 'trouble', 'the cut')
  const cut = Date.now()
  only(second, 901)
  const waiting = await until(async () => (await s.engine.journal.follow(second, cut))[0]?.message ?? null, 'it to be stored')
  expect(waiting).toMatchObject({ verdict: 'waiting' })
  expect(await s.engine.journal.follow(1_000_000, from)).toEqual([])
  // Before anything was live nothing went, and what carries it now is named.
  expect(await s.engine.journal.follow(second, 0)).toMatchObject([{ message: null, looked: true, members: found!.members }])
})
