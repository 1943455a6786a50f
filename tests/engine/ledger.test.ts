import { afterAll, beforeAll, beforeEach, expect, it } from 'vitest'
import { newId } from '~/contract/id'
import type { Account } from '~/core/delivery/account'
import { SLICE_MS } from '~/core/delivery/account-changes'
import { Fenced } from '~/core/delivery/delivery-store'
import { emptyTally } from '~/core/delivery/verdict'
import type { Ledger } from '~/engine/ledger/ledger'
import { claimFlush, lastFlush, wallBricks } from '~/store/ledger'
import { freshDatabase, heldStore, ledgerOver } from './support'

let t: Awaited<ReturnType<typeof freshDatabase>>
let delivery: number
beforeAll(async () => {
  t = await freshDatabase()
})
afterAll(() => t.drop())
beforeEach(async () => {
  const destination = newId()
  const publication = newId()
  await t.db.insertInto('destination').values({ id: destination, name: destination, kind: 'mqtt', settings: '{}', enabled: true }).execute()
  await t.db
    .insertInto('publication')
    .values({
      id: publication,
      name: publication,
      draft: '{}',
      destination_id: destination,
      state: 'draft',
      live_version: null,
      live_draft_version: null,
    })
    .execute()
  const row = await t.db
    .insertInto('delivery')
    .values({ publication_id: publication, destination_id: destination })
    .returning('number')
    .executeTakeFirstOrThrow()
  delivery = row.number
})

const loaded = () => ledgerOver(t.db)

const at = Math.floor(Date.now() / SLICE_MS) * SLICE_MS
function send(ledger: Ledger, n: number): void {
  const a = ledger.account(delivery)
  for (let i = 0; i < n; i++) {
    const { seq, turn } = a.next(at + i)
    a.stored(seq, at + i, turn)
    a.sent(
      { seq, topic: 't', digest: seq, assurance: 'acknowledged', deviceAt: at + i, producedAt: at + i, turn, madeMono: at + i },
      at + i,
      () => undefined,
    )
    a.acknowledged(seq, at + i)
  }
}
const see = (a: Account, seq: number, when: number) => a.seen({ seq, topic: 't', digest: seq, at: when, mono: when, counted: () => undefined })
const bricks = async () =>
  (await wallBricks(t.db, at - SLICE_MS, at + 10 * SLICE_MS, SLICE_MS)).filter((b) => b.delivery === delivery).map((b) => b.brick)

it('stands after a new start where it was written', async () => {
  const first = await loaded()
  send(first, 100)
  const a = first.account(delivery)
  for (let seq = 1; seq <= 90; seq++) if (seq !== 50) see(a, seq, at + 1000)
  see(a, 7, at + 1001)
  await first.flush()
  const second = await loaded()
  expect(second.countsOf(delivery)).toMatchObject({
    produced: 100,
    stored: 100,
    acknowledged: 100,
    arrived: 89,
    confirmed: 88,
    doubled: 1,
    waiting: 11,
  })
  expect(await bricks()).toEqual([{ start: at, produced: 100, foreign: 0, ...emptyTally(), confirmed: 88, doubled: 1 }])
  expect(second.latencyOf(delivery)?.count).toBe(89)
  expect(second.account(delivery).next(at).seq).toBe(101)
})

it('adds to slices that an earlier engine wrote', async () => {
  const first = await loaded()
  send(first, 3)
  await first.flush()
  const second = await loaded()
  send(second, 4)
  await second.flush()
  expect((await bricks())[0]).toMatchObject({ produced: 7 })
})

it('a flush whose answer got lost is not counted twice', async () => {
  const n = await lastFlush(t.db)
  expect(await t.db.transaction().execute((tx) => claimFlush(tx, n + 1))).toBe(true)
  expect(await t.db.transaction().execute((tx) => claimFlush(tx, n + 1))).toBe(false)
  await expect(t.db.transaction().execute((tx) => claimFlush(tx, n + 3))).rejects.toThrow(Fenced)
})

it('calls back only when what was known is written', async () => {
  const ledger = await loaded()
  send(ledger, 1)
  const called: number[] = []
  ledger.afterFlush((n) => called.push(n), 1)
  expect(called).toEqual([])
  await ledger.flush()
  expect(called).toEqual([1])
  const again = await loaded()
  expect(again.countsOf(delivery)?.produced).toBe(1)
})

it('keeps all while the database is away and writes it when it is back', async () => {
  const ledger = await loaded()
  send(ledger, 5)
  const called: number[] = []
  ledger.afterFlush((n) => called.push(n), 1)
  await t.db.schema.alterTable('ledger_state').renameTo('ledger_state_away').execute()
  await ledger.flush()
  expect(called).toEqual([])
  send(ledger, 5)
  await t.db.schema.alterTable('ledger_state_away').renameTo('ledger_state').execute()
  await ledger.flush()
  await ledger.flush()
  expect(called).toEqual([1])
  expect((await loaded()).countsOf(delivery)?.produced).toBe(10)
})

it('mends the slice of a message that came after it was given up', async () => {
  const ledger = await loaded()
  send(ledger, 2)
  const a = ledger.account(delivery)
  a.judge(at + 700_000, { connectedAt: 0, clearAt: at + 700_000, seenAt: 0, seenAnyAt: 0, coveredSince: () => 0 })
  await ledger.flush()
  expect((await bricks())[0]).toMatchObject({ produced: 2, confirmed: 0, missing: 2 })
  see(a, 2, at + 800_000)
  await ledger.flush()
  expect((await bricks())[0]).toMatchObject({ confirmed: 0, late: 1, missing: 1 })
})

it('passes over a delivery that was removed meanwhile', async () => {
  const ledger = await loaded()
  send(ledger, 1)
  await t.db.deleteFrom('delivery').where('number', '=', delivery).execute()
  await ledger.flush()
  expect(await bricks()).toEqual([])
})

it('ends when another engine has written a flush, or taken over: it writes nothing more, and says so once', async () => {
  for (const take of [
    () =>
      t.db
        .updateTable('ledger_state')
        .set((q) => ({ flush: q('flush', '+', 5) }))
        .execute(),
    () => t.db.updateTable('engine_lease').set({ epoch: 9 }).execute(),
  ]) {
    let fenced = 0
    const ledger = await ledgerOver(t.db, { fenced: () => fenced++ })
    await take()
    send(ledger, 1)
    let written = false
    ledger.afterFlush(() => {
      written = true
    }, null)
    for (let i = 0; i < 3; i++) await ledger.flush()
    expect({ fenced, written }).toEqual({ fenced: 1, written: false })
    await heldStore(t.db)
  }
  expect(await bricks()).toEqual([])
})

it('bricks of more messages than fit 31 bits', async () => {
  for (const start of [0, SLICE_MS])
    await t.db
      .insertInto('ledger_slice')
      .values({ delivery, start, first_seq: 1 + start, produced: 2_000_000_000, foreign_count: 0, ...emptyTally(), confirmed: 2_000_000_000 })
      .execute()
  const [all] = (await wallBricks(t.db, 0, 100_000, 100_000)).filter((b) => b.delivery === delivery)
  expect(all?.brick).toMatchObject({ produced: 4_000_000_000, confirmed: 4_000_000_000 })
})

it('gives back open numbers by window, whatever lies between, and tells what the outbox lost', async () => {
  const first = await loaded()
  send(first, 9000)
  const a = first.account(delivery)
  for (let seq = 1; seq <= 9000; seq++) if (seq % 3000 !== 1) see(a, seq, at + 1000)
  await first.flush()
  const second = await loaded()
  expect(second.countsOf(delivery)).toMatchObject({ produced: 9000, confirmed: 8997, waiting: 3 })
  expect([1, 3001, 6001, 9000].map((n) => second.account(delivery).verdict(n))).toEqual(['waiting', 'waiting', 'waiting', 'confirmed'])
  expect(second.resolveGone([delivery], [[delivery, 3000, 3500]])).toBe(2)
  await second.flush()
  expect((await bricks()).reduce((n, b) => n + b.unknown, 0)).toBe(2)
  expect((await loaded()).countsOf(delivery)).toMatchObject({ produced: 9000, unknown: 2, waiting: 1 })
})
