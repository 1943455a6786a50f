import { sql } from 'kysely'
import { afterAll, beforeAll, beforeEach, describe, expect, it } from 'vitest'
import { newId } from '~/contract/id'
import { AHEAD, type DeliveryStore } from '~/core/delivery/delivery-store'
import type { Envelope } from '~/core/delivery/envelope'
import type { Clock } from '~/engine/clock/clock'
import { realClock } from '~/engine/clock/real-clock'
import type { DropRun } from '~/engine/outbox/drop-runs'
import { Outbox } from '~/engine/outbox/outbox'
import { deflatePacking } from '~/engine/outbox/packing'
import type { Item } from '~/engine/outbox/segment-state'
import { type PgDeliveryStore, storeTrouble } from '~/store/delivery'
import { deleteSegments, keepSegments, listSegments, readCursor, writeCursor } from '~/store/outbox'
import { freshDatabase, heldStore, until } from './support'

let t: Awaited<ReturnType<typeof freshDatabase>>
let id: string
let store: PgDeliveryStore
beforeAll(async () => {
  t = await freshDatabase()
  store = await heldStore(t.db)
})
afterAll(() => t.drop())
beforeEach(async () => {
  id = newId()
  await t.db.insertInto('destination').values({ id, name: id, kind: 'mqtt', settings: '{}', enabled: true }).execute()
})

const envelope = (seq: number, payload = `{"n":${seq}}`): Envelope => ({
  delivery: 1,
  seq,
  topic: `x/${seq % 3}`,
  payload,
  assurance: 'acknowledged',
  deviceAt: seq,
  producedAt: seq,
  turn: 0,
  madeMono: seq,
  properties: '',
})

function outbox(
  cap = 10_000_000,
  over: DeliveryStore = store,
  clock: Clock = realClock,
  ageMs = Number.POSITIVE_INFINITY,
  journal = { bytes: 0, ageMs: 0 },
) {
  const stored: number[] = []
  const dropped: { seq: number; acknowledged: boolean; old?: boolean }[] = []
  const troubles: (string | null)[] = []
  const lost: DropRun[] = []
  const gone: [number, number, number][] = []
  const fenced: number[] = []
  const gaveWay: number[] = []
  const box = new Outbox({
    store: over,
    clock,
    packing: deflatePacking,
    destinationId: id,
    limits: { bytes: cap, ageMs, journal },
    troubleOf: storeTrouble,
    hooks: {
      stored: (e) => stored.push(e.seq),
      dropped: (e, acknowledged, why) => dropped.push({ seq: e.seq, acknowledged, ...(why === 'old' && { old: true }) }),
      lost: (run) => lost.push(run),
      gone: (delivery, first, last) => gone.push([delivery, first, last]),
      trouble: (x) => troubles.push(x?.kind ?? null),
      journalGaveWay: (messages) => gaveWay.push(messages),
      fenced: () => fenced.push(1),
    },
  })
  box.eager = true
  return { box, stored, dropped, troubles, lost, gone, fenced, gaveWay }
}

/** The same, with nothing found. */
async function opened(cap?: number, ageMs?: number) {
  const o = outbox(cap, store, realClock, ageMs)
  await o.box.load((_item, _uncounted, acknowledged) => acknowledged)
  return o
}

/** Takes everything that is to be sent, in order. */
async function drain(box: Outbox, n: number): Promise<Item[]> {
  const items: Item[] = []
  while (items.length < n) {
    const item = box.next()
    if (item) items.push(item)
    else await box.more()
  }
  return items
}

/** Writes what the ledger would. */
async function flush(box: Outbox): Promise<void> {
  const part = box.takeFlush()
  if (!part) return
  await writeCursor(t.db, id, part.cursor)
  await deleteSegments(t.db, id, part.remove)
  await keepSegments(t.db, id, part.keep)
  part.applied()
}

const seqs = (items: Item[]) => items.map((i) => i.envelope.seq)
const many = (from: number, to: number) => Array.from({ length: to - from + 1 }, (_, i) => from + i)

describe('an outbox', () => {
  it('gives messages back in the order in which they were offered, whatever the batches', async () => {
    const { box, stored } = await opened()
    for (let from = 1; from <= 2500; from += 500) box.offer(many(from, from + 499).map((n) => envelope(n)))
    expect(seqs(await drain(box, 2500))).toEqual(many(1, 2500))
    expect(stored).toEqual(many(1, 2500))
    await box.close()
  })

  it('goes on after a death where the cursor stood: what was not written as acknowledged comes again', async () => {
    const first = await opened()
    first.box.offer(many(1, 50).map((n) => envelope(n)))
    const items = await drain(first.box, 50)
    for (const item of items.slice(0, 20)) {
      first.box.acknowledged(item)
      first.box.settled(item)
    }
    await flush(first.box)
    for (const item of items.slice(20, 30)) first.box.acknowledged(item)
    await first.box.close()

    const second = outbox()
    const resumed: [number, boolean, boolean][] = []
    await second.box.load((item, uncounted, acknowledged) => {
      resumed.push([item.envelope.seq, uncounted, acknowledged])
      // Number 33 was acknowledged out of order: the ledger knows.
      return acknowledged || item.envelope.seq === 33
    })
    expect(resumed.filter((r) => r[2]).map((r) => r[0])).toEqual(many(1, 20))
    expect(resumed.every((r) => !r[1])).toBe(true)
    expect(resumed.map((r) => r[0])).toEqual(many(1, 50))
    expect(seqs(await drain(second.box, 29))).toEqual(many(21, 50).filter((n) => n !== 33))
    second.box.offer([envelope(51)])
    expect(seqs(await drain(second.box, 1))).toEqual([51])
    await second.box.close()
  })

  it('says which stored messages the ledger has not counted yet', async () => {
    const first = await opened()
    first.box.offer([envelope(1)])
    await until(() => first.stored.length === 1, 'the first')
    await flush(first.box)
    first.box.offer([envelope(2)])
    await until(() => first.stored.length === 2, 'the second')
    await first.box.close()
    const second = outbox()
    const uncounted: number[] = []
    await second.box.load((item, u, acknowledged) => {
      if (u) uncounted.push(item.envelope.seq)
      return acknowledged
    })
    expect(uncounted).toEqual([2])
    await second.box.close()
  })

  it('sends again from the first unacknowledged message after a lost link, and passes over those acknowledged out of order', async () => {
    const { box } = await opened()
    box.offer(many(1, 10).map((n) => envelope(n)))
    const items = await drain(box, 10)
    for (const i of [0, 1, 4, 5]) box.acknowledged(items[i]!)
    box.rewind()
    expect(seqs(await drain(box, 6))).toEqual([3, 4, 7, 8, 9, 10])
    expect(box.waiting).toBe(6)
    await box.close()
  })

  it('frees a segment only when the fate of all its messages is known', async () => {
    const { box } = await opened()
    box.offer(many(1, 3).map((n) => envelope(n)))
    const items = await drain(box, 3)
    for (const item of items) box.acknowledged(item)
    box.settled(items[0]!)
    box.settled(items[1]!)
    await flush(box)
    expect((await listSegments(t.db, id)).length).toBe(1)
    box.settled(items[2]!)
    await flush(box)
    expect(await listSegments(t.db, id)).toEqual([])
    expect(box.bytes).toBe(0)
    await box.close()
  })

  it('keeps numbering upwards after everything was freed and the engine began anew', async () => {
    const first = await opened()
    first.box.offer([envelope(1)])
    const [item] = await drain(first.box, 1)
    first.box.acknowledged(item!)
    first.box.settled(item!)
    await flush(first.box)
    await first.box.close()
    const second = outbox()
    await second.box.load((_item, _uncounted, acknowledged) => acknowledged)
    second.box.offer([envelope(2)])
    const [next] = await drain(second.box, 1)
    expect(next!.segment.no).toBeGreaterThan(item!.segment.no)
    await second.box.close()
  })

  it('never gives a place again, though the newer segments are freed before an older one', async () => {
    const first = await opened()
    for (let n = 1; n <= 3; n++) {
      first.box.offer([envelope(n)])
      await until(() => first.stored.length === n, `message ${n}`)
    }
    const items = await drain(first.box, 3)
    for (const item of items) first.box.acknowledged(item)
    // The fate of the first alone is open.
    for (const item of items.slice(1)) first.box.settled(item)
    await flush(first.box)
    expect((await listSegments(t.db, id)).length).toBe(1)
    expect((await readCursor(t.db, id)).ordinal).toBe(3)
    await first.box.close()
    const second = await opened()
    second.box.offer([envelope(4)])
    const [next] = await drain(second.box, 1)
    expect(next!.segment.ordinal).toBe(3)
    await second.box.close()
  })

  it('writes how far messages may go out before the first of them goes, and knows later which may have gone', async () => {
    const first = await opened()
    first.box.offer(many(1, 5).map((n) => envelope(n)))
    await until(() => first.stored.length === 5, 'five')
    expect(first.box.mayGoOut(4)).toBe(true)
    expect(first.box.inDoubt(4)).toBe(false)
    await flush(first.box)
    expect((await readCursor(t.db, id)).announced).toBe(4 + AHEAD)
    // As far ahead as only many more messages would be.
    const far = 4 + AHEAD + 1
    expect(first.box.mayGoOut(far)).toBe(false)
    let woken = false
    void first.box.woken().then(() => (woken = true))
    await flush(first.box)
    await until(() => woken, 'whoever waited is woken')
    expect(first.box.mayGoOut(far)).toBe(true)
    await first.box.close()
    const second = await opened()
    second.box.offer([envelope(6)])
    await until(() => second.stored.length === 1, 'six')
    expect(many(0, 5).map((n) => second.box.inDoubt(n))).toEqual([true, true, true, true, true, false])
    await second.box.close()
  })

  it('stays under its limit by giving up the oldest, and tells which', async () => {
    const { box, dropped, stored } = await opened(30_000)
    box.eager = false
    // Too varied to be packed small.
    const noise = () => Array.from({ length: 5000 }, () => Math.random().toString(36)[3]).join('')
    for (let n = 1; n <= 16; n++) {
      box.offer([envelope(n, noise())])
      await until(() => stored.length === n, `message ${n}`)
    }
    await until(() => box.bytes <= 30_000, 'room')
    expect(dropped.length).toBeGreaterThan(3)
    expect(dropped.every((d) => !d.acknowledged)).toBe(true)
    expect(dropped.map((d) => d.seq)).toEqual(many(1, dropped.length))
    expect(seqs(await drain(box, 16 - dropped.length))).toEqual(many(dropped.length + 1, 16))
    await box.close()
  })

  it('gives up what waited for too long, while nobody sends; what the destination has waits for its fate', async () => {
    const { box, dropped, stored } = await opened(undefined, 1500)
    box.offer(many(1, 10).map((n) => envelope(n)))
    await until(() => stored.length === 10, 'all to be stored')
    const [first] = await drain(box, 10)
    box.acknowledged(first!)
    box.eager = false
    await until(() => dropped.length > 0, 'the old to go')
    expect(dropped).toEqual(many(2, 10).map((seq) => ({ seq, acknowledged: false, old: true })))
    expect(box.waiting).toBe(0)
    // Its row stays until the last fate is known, told as often as it is.
    for (const item of [first!, first!]) box.settled(item)
    box.offer([envelope(11)])
    await until(() => stored.length === 11, 'the next')
    expect(box.takeFlush()!.remove).toHaveLength(1)
    await box.close()
  })

  it('does not send what waited for too long, also when it was stored by an earlier run', async () => {
    const first = await opened()
    first.box.offer(many(1, 3).map((n) => envelope(n)))
    await until(() => first.stored.length === 3, 'all to be stored')
    await first.box.close()
    await sql`update outbox_segment set created_at = now() - interval '1 hour' where destination_id = ${id}`.execute(t.db)
    const { box, dropped, stored } = await opened(undefined, 600_000)
    box.offer([envelope(4)])
    await until(() => stored.length === 4 - 3, 'the new one')
    expect(seqs(await drain(box, 1))).toEqual([4])
    expect(dropped.map((d) => d.seq)).toEqual([1, 2, 3])
    await box.close()
  })

  it('frees a segment only when each of its messages has its fate, however often one is told', async () => {
    const { box, stored } = await opened()
    box.offer([envelope(1), envelope(2)])
    await until(() => stored.length === 2, 'both')
    const [one, two] = (await drain(box, 2)) as [Item, Item]
    for (const item of [one, two]) box.acknowledged(item)
    for (const item of [one, one]) box.settled(item)
    expect(box.takeFlush()!.remove).toEqual([])
    box.settled(two)
    expect(box.takeFlush()!.remove).toHaveLength(1)
    await box.close()
  })

  it('stores what is still in memory when it ends', async () => {
    const first = await opened()
    first.box.eager = false
    first.box.offer(many(1, 2500).map((n) => envelope(n)))
    expect(first.box.waiting).toBe(2500)
    await first.box.close()
    expect(first.stored).toEqual(many(1, 2500))
    const second = outbox()
    await second.box.load((_item, _uncounted, acknowledged) => acknowledged)
    expect(seqs(await drain(second.box, 2500))).toEqual(many(1, 2500))
    await second.box.close()
  })

  it('reads segments back from the database when they were not kept in memory', async () => {
    const first = await opened()
    for (let n = 1; n <= 30; n++) {
      first.box.offer([envelope(n)])
      await until(() => first.stored.length === n, `message ${n}`)
    }
    await flush(first.box)
    await first.box.close()
    const second = outbox()
    await second.box.load((_item, _uncounted, acknowledged) => acknowledged)
    expect(seqs(await drain(second.box, 30))).toEqual(many(1, 30))
    await second.box.close()
  })

  it('writing a segment again changes nothing: its commit may have been answered to nobody', async () => {
    const s = { segment: 1, count: 1, codec: 0 as const, rawBytes: 3, body: Buffer.from('abc'), ordinal: 0, ranges: '1:1-1' }
    await store.append(id, s)
    await store.append(id, s)
    expect(await listSegments(t.db, id)).toEqual([
      { segment: 1, count: 1, rawBytes: 3, bodyBytes: 3, ordinal: 0, ranges: '1:1-1', ageMs: expect.any(Number) },
    ])
  })

  it('finds another segment in its place, or another epoch: then another engine writes, and this one stores nothing more', async () => {
    const mine = await opened()
    const theirs = await opened()
    theirs.box.offer([envelope(1, 'theirs')])
    await until(() => theirs.stored.length === 1, 'theirs')
    mine.box.offer([envelope(1, 'mine, and longer')])
    await until(() => mine.fenced.length === 1, 'the fence')
    expect(mine.stored).toEqual([])
    await t.db.updateTable('engine_lease').set({ epoch: 2 }).execute()
    theirs.box.offer([envelope(2)])
    await until(() => theirs.fenced.length === 1, 'the other fence')
    expect(theirs.stored).toEqual([1])
    expect((await listSegments(t.db, id)).length).toBe(1)
    await t.db.updateTable('engine_lease').set({ epoch: 1 }).execute()
    await mine.box.close()
    await theirs.box.close()
  })

  it('that cannot be read is told by its numbers, and what is behind it goes on', async () => {
    const first = await opened()
    for (const n of [1, 2, 3]) {
      first.box.offer([envelope(n)])
      await until(() => first.stored.length === n, `message ${n}`)
    }
    await first.box.close()
    await t.db
      .updateTable('outbox_segment')
      .set({ body: Buffer.from([1, 2, 3]) })
      .where('destination_id', '=', id)
      .where('segment', '=', 2)
      .execute()
    await t.db.deleteFrom('outbox_segment').where('destination_id', '=', id).where('segment', '=', 1).execute()
    const second = await opened()
    expect(second.gone).toEqual([[1, 2, 2]])
    expect(seqs(await drain(second.box, 1))).toEqual([3])
    expect(second.box.waiting).toBe(1)
    await second.box.close()
  })

  it('takes messages while it cannot be read, and stores them when it can', async () => {
    const late = outbox()
    late.box.offer([envelope(1), envelope(2)])
    expect(late.box.waiting).toBe(2)
    await late.box.load((_item, _uncounted, acknowledged) => acknowledged)
    await until(() => late.stored.length === 2, 'both')
    await late.box.close()
  })

  it('stays in order while the store fails, and tells what was pushed out of memory only when what was before it is stored', async () => {
    let away = true
    const flaky: DeliveryStore = {
      append: (d, s) => (away ? Promise.reject(Object.assign(new Error('No space left on device'), { code: '53100' })) : store.append(d, s)),
      readSegment: (d, n) => store.readSegment(d, n),
      loadOutbox: (d) => store.loadOutbox(d),
      loadLedger: (m) => store.loadLedger(m),
      flush: (w) => store.flush(w),
      loadPosition: (d) => store.loadPosition(d),
      nextBirth: (d) => store.nextBirth(d),
      loadDay: (d) => store.loadDay(d),
      keepDay: (d, day) => store.keepDay(d, day),
      journalBytes: (d) => store.journalBytes(d),
      trimJournal: (d, over) => store.trimJournal(d, over),
    }
    const o = outbox(1e9, flaky)
    await o.box.load((_item, _uncounted, acknowledged) => acknowledged)
    o.box.offer(many(1, 10).map((n) => envelope(n)))
    await until(() => o.troubles.length > 0, 'the trouble')
    expect(o.troubles[0]).toBe('full')
    o.box.offer(many(11, 60_010).map((n) => envelope(n)))
    expect(o.lost).toEqual([])
    away = false
    await until(() => o.stored.length === 50_010, 'all that is left', 60)
    expect(o.troubles.at(-1)).toBe(null)
    expect(o.lost.map((r) => [r.delivery, r.first, r.last])).toEqual([
      [1, 11, 9999],
      [1, 10_000, 10_010],
    ])
    expect(o.stored).toEqual([...many(1, 10), ...many(10_011, 60_010)])
    await o.box.close()
  })

  it('packs a backlog, however it came: with the link back it takes no more room than before', async () => {
    const o = await opened()
    o.box.eager = false
    for (let n = 1; n <= 4000; n++) {
      o.box.offer([envelope(n, `{"zone":"Zone 7","temperature":${900 + (n % 50)},"unit":"degC","n":${n}}`)])
      if (n % 50 === 0) await new Promise((done) => setTimeout(done, 1))
    }
    await until(() => o.stored.length === 4000, 'the backlog')
    const before = o.box.bytes / 4000
    o.box.eager = true
    for (let n = 4001; n <= 4400; n++) {
      o.box.offer([envelope(n, `{"zone":"Zone 7","temperature":${900 + (n % 50)},"unit":"degC","n":${n}}`)])
      if (n % 10 === 0) await new Promise((done) => setTimeout(done, 5))
    }
    await until(() => o.stored.length === 4400, 'more')
    expect(o.box.bytes / 4400).toBeLessThan(before * 1.5)
    await o.box.close()
  })
})

it('gathers messages only as long as the sender has others to send', async () => {
  // A clock by which a gathering never ends.
  const o = outbox(undefined, store, { ...realClock, after: (ms, then) => (ms === 250 ? () => undefined : realClock.after(ms, then)) })
  await o.box.load((_item, _uncounted, acknowledged) => acknowledged)
  o.box.offer(Array.from({ length: 2500 }, (_, i) => envelope(i + 1)))
  await until(() => o.stored.length === 2500, 'what nobody had to wait for')
  o.box.offer([envelope(2501)])
  await new Promise((done) => setImmediate(done))
  expect(o.stored.length).toBe(2500)
  for (let n = 0; n < 500; n++) o.box.acknowledged(o.box.next()!)
  await until(() => o.stored.length === 2501, 'the one that was gathered')
  await o.box.close()
})
