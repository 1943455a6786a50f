import { afterAll, beforeAll, beforeEach, expect, it } from 'vitest'
import { newId } from '~/contract/id'
import { type Account, SLICE_MS } from '~/core/delivery/account'
import { emptyTally } from '~/core/delivery/verdict'
import { Ledger } from '~/engine/ledger/ledger'
import { claimFlush, lastFlush, wallBricks } from '~/store/ledger'
import { freshDatabase } from './support'

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

async function loaded(): Promise<Ledger> {
  const ledger = new Ledger(t.db)
  await ledger.load()
  return ledger
}

const at = Math.floor(Date.now() / SLICE_MS) * SLICE_MS
function send(ledger: Ledger, n: number): void {
  const a = ledger.account(delivery)
  for (let i = 0; i < n; i++) {
    const seq = a.next(at + i)
    a.stored(seq, at + i)
    a.sent({ seq, topic: 't', digest: seq, qos: 1, deviceAt: at + i, producedAt: at + i }, () => undefined)
    a.acknowledged(seq, at + i)
  }
}
const see = (a: Account, seq: number, when: number) => a.seen({ seq, topic: 't', digest: seq, at: when, counted: () => undefined })
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
  expect(second.account(delivery).next(at)).toBe(101)
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
  await expect(t.db.transaction().execute((tx) => claimFlush(tx, n + 3))).rejects.toThrow('another engine')
})

it('calls back only when what was known is written', async () => {
  const ledger = await loaded()
  send(ledger, 1)
  const called: number[] = []
  ledger.afterFlush(() => called.push(1))
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
  ledger.afterFlush(() => called.push(1))
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
  a.judge(at + 700_000, { connectedAt: 0, caughtUpAt: 0, blindBefore: 0 })
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
