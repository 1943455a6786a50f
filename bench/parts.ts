// Outbox and ledger alone, on the real database; segments and accounts in memory.
import { newId } from '~/contract/id'
import { Account } from '~/core/delivery/account'
import type { Envelope } from '~/core/delivery/envelope'
import { noHighWater } from '~/core/delivery/high-water'
import { decodeSegment, encodeSegment } from '~/core/delivery/segment'
import { realClock } from '~/engine/clock/real-clock'
import { Ledger } from '~/engine/ledger/ledger'
import { Outbox } from '~/engine/outbox/outbox'
import { deflatePacking } from '~/engine/outbox/packing'
import { PgDeliveryStore, storeTrouble } from '~/store/delivery'
import { deleteSegments, writeCursor } from '~/store/outbox'
import { emptyDatabase, perSecond, show, sleep } from './common'

const SECONDS = Number(process.env.EMBRIK_BENCH_SECONDS ?? 6)
const db = await emptyDatabase()
const destination = newId()
await db.insertInto('destination').values({ id: destination, name: 'bench', kind: 'mqtt', settings: '{}', enabled: true }).execute()
const publication = newId()
await db
  .insertInto('publication')
  .values({ id: publication, name: 'bench', draft: '{}', destination_id: destination, state: 'draft', live_version: null, live_draft_version: null })
  .execute()
const { number: delivery } = await db
  .insertInto('delivery')
  .values({ publication_id: publication, destination_id: destination })
  .returning('number')
  .executeTakeFirstOrThrow()

// 291 octets of JSON, none like the one before.
const body = (n: number) =>
  `{"at":"2026-11-23T14:07:12.481Z","n":${String(n).padStart(12, '0')},${Array.from({ length: 12 }, (_, i) => `"member${String(i).padStart(2, '0')}":${(((n * 7919 + i * 104729) % 99991) / 7).toFixed(3)}`).join(',')}}`.padEnd(
    291,
  )
const envelope = (seq: number): Envelope => ({
  delivery,
  seq,
  topic: `varnmoor/bench/unit-${seq % 100}`,
  payload: body(seq),
  assurance: 'acknowledged',
  deviceAt: seq,
  producedAt: seq,
  turn: 0,
  madeMono: seq,
  properties: '',
})

const store = new PgDeliveryStore(db, () => 0)
const sending = { assurance: 'acknowledged' as const, turn: 0 }

// ---- outbox: written, committed, taken in order, acknowledged, settled, deleted; five writes of the cursor a second
{
  let storedCount = 0
  const nothing = () => undefined
  const hooks = {
    stored: () => storedCount++,
    dropped: nothing,
    lost: nothing,
    gone: nothing,
    trouble: nothing,
    fenced: nothing,
    journalGaveWay: nothing,
  }
  const outbox = new Outbox({
    store,
    clock: realClock,
    packing: deflatePacking,
    destinationId: destination,
    limits: { bytes: 1e9, ageMs: Number.POSITIVE_INFINITY, journal: { bytes: 0, ageMs: 0 } },
    troubleOf: storeTrouble,
    hooks,
  })
  await outbox.load((_item, _uncounted, acknowledged) => acknowledged)
  outbox.eager = true
  let done = 0
  let offered = 0
  let over = false
  const flush = async () => {
    const part = outbox.takeFlush()
    if (!part) return
    await db.transaction().execute(async (tx) => {
      await writeCursor(tx, destination, part.cursor)
      await deleteSegments(tx, destination, part.remove)
    })
    part.applied()
  }
  const flushing = (async () => {
    while (!over) {
      await flush()
      await sleep(200)
    }
  })()
  const ready = Array.from({ length: 200_000 }, (_, i) => envelope(i + 1))
  const began = performance.now()
  const taking = (async () => {
    while (!over || done < offered) {
      const item = outbox.next()
      if (!item) {
        await outbox.more()
        continue
      }
      outbox.acknowledged(item)
      outbox.settled(item)
      done++
    }
  })()
  while (performance.now() - began < SECONDS * 1000) {
    if (offered - storedCount > 8000) {
      await sleep(0)
      continue
    }
    const batch = Array.from({ length: 500 }, (_, i) => ({ ...ready[(offered + i) % ready.length]!, seq: offered + i + 1 }))
    offered += batch.length
    outbox.offer(batch)
    await new Promise((next) => setImmediate(next))
  }
  while (done < offered) await sleep(1)
  const ms = performance.now() - began
  over = true
  outbox.wake()
  await Promise.all([flushing, taking])
  await outbox.close()
  show('outbox alone: stored on disk, read in order, acknowledged, freed (291 B)', perSecond(done, ms))
}

// ---- ledger: produced, stored, sent, acknowledged, seen; written to the database as in the engine
{
  const nothing = () => undefined
  const ledger = new Ledger({ highWater: noHighWater, store, clock: realClock, fenced: nothing, trouble: nothing, troubleOf: storeTrouble })
  await ledger.load()
  ledger.start()
  ledger.watch(delivery, { destinationId: destination, witnessed: true, lateMs: 30_000, byId: true })
  const account = ledger.account(delivery)
  const topics = Array.from({ length: 100 }, (_, i) => `varnmoor/bench/unit-${i}`)
  let seq = 0
  const began = performance.now()
  while (performance.now() - began < SECONDS * 1000) {
    const first = seq + 1
    const now = Date.now()
    for (let i = 0; i < 500; i++) {
      const made = account.next(now)
      seq = made.seq
      account.stored(seq, now, made.turn)
      account.sent({ ...sending, seq, topic: topics[seq % 100]!, digest: seq, deviceAt: now, producedAt: now, madeMono: now }, now, () => undefined)
    }
    for (let n = first; n <= seq; n++) account.acknowledged(n, now)
    // One in a hundred never comes, one in a hundred comes twice.
    for (let n = first; n <= seq; n++)
      for (let copies = n % 100 === 7 ? 0 : n % 100 === 9 ? 2 : 1; copies > 0; copies--)
        account.seen({ seq: n, topic: topics[n % 100]!, digest: n, at: now, mono: now, counted: () => ledger.afterFlush(() => undefined, undefined) })
    await new Promise((next) => setImmediate(next))
  }
  await ledger.flush()
  show('ledger alone: produced to confirmed, written; 1 % missing, 1 % doubled', perSecond(seq, performance.now() - began))
  await ledger.close()
}

// ---- in memory
const messages = Array.from({ length: 1000 }, (_, i) => envelope(i + 1))
let began = performance.now()
for (let i = 0; i < 200; i++) decodeSegment(encodeSegment(messages))
show('segments, encoded and decoded, in memory', perSecond(200_000, performance.now() - began))
const account = new Account(1)
began = performance.now()
for (let seq = 1; seq <= 1_000_000; seq++) {
  account.next(seq)
  account.stored(seq, seq, 0)
  account.sent(
    { ...sending, seq, topic: messages[seq % 100]!.topic, digest: seq, deviceAt: seq, producedAt: seq, madeMono: seq },
    seq,
    () => undefined,
  )
  account.acknowledged(seq, seq)
  account.seen({ seq, topic: messages[seq % 100]!.topic, digest: seq, at: seq, mono: seq, counted: () => undefined })
  if (seq % 10_000 === 0) account.take()
}
show('account, produced to confirmed, in memory', perSecond(1_000_000, performance.now() - began))
await db.destroy()
process.exit(0)
