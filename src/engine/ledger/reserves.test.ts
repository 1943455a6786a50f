import { expect, it } from 'vitest'
import { Account } from '~/core/delivery/account'
import type { HighWater } from '~/core/delivery/high-water'
import { realClock } from '../clock/real-clock'
import { Reserves } from './reserves'

function kept() {
  let noted: HighWater | null = null
  let writes = 0
  const store = {
    read: () => noted,
    write: (h: HighWater) => {
      noted = structuredClone(h)
      writes++
    },
  }
  return { store, noted: () => noted!, writes: () => writes }
}

const store = (a: Account, n: number) => {
  for (let i = 0; i < n; i++) {
    const { seq, turn } = a.next(1000)
    a.stored(seq, 1000, turn)
  }
}

/** A run that stored thirty messages and wrote its fourth flush. */
function ran() {
  const k = kept()
  const accounts = new Map<number, Account>()
  const reserves = new Reserves(k.store, realClock, accounts)
  reserves.begin(0)
  reserves.keep(new Account(7))
  store(accounts.get(7)!, 30)
  reserves.collecting()
  reserves.flushed(4)
  reserves.catchUp()
  return k
}

it('notes numbers before they are given, seldomer the more are given', () => {
  const k = kept()
  const accounts = new Map<number, Account>()
  const reserves = new Reserves(k.store, realClock, accounts)
  reserves.begin(0)
  const a = new Account(1)
  reserves.keep(a)
  for (let i = 0; i < 10_000; i++) {
    const { seq } = a.next(1000)
    expect(k.noted().deliveries[0]!.reserved).toBeGreaterThanOrEqual(seq)
  }
  expect(k.writes()).toBeLessThan(20)
})

it('a database that is older than what was noted gives no number again; one that is not forgets nothing', () => {
  const k = ran()
  const same = new Map([[7, new Account(7)]])
  store(same.get(7)!, 30)
  expect(new Reserves(k.store, realClock, same).begin(4).size).toBe(0)

  const older = new Map([[7, new Account(7)]])
  store(older.get(7)!, 10)
  const forgotten = new Reserves(k.store, realClock, older).begin(3)
  const account = older.get(7)!
  expect(account.next(2000).seq).toBeGreaterThan(80)
  const lost = account.memoryLost(forgotten.get(7)!, 2000)
  expect(lost).toBe(forgotten.get(7)! - 10)
  expect(account.counts()).toMatchObject({ produced: 10 + lost, unknown: lost, waiting: 10 })
  expect([account.verdict(10), account.verdict(11), account.verdict(forgotten.get(7)!)]).toEqual(['waiting', 'unknown', 'unknown'])
})

it('after an end in good order only what was stored counts as given', () => {
  const k = kept()
  const accounts = new Map<number, Account>()
  const reserves = new Reserves(k.store, realClock, accounts)
  reserves.begin(0)
  reserves.keep(new Account(1))
  store(accounts.get(1)!, 5)
  reserves.flushed(9)
  reserves.close()
  expect(new Reserves(k.store, realClock, new Map()).begin(8)).toEqual(new Map([[1, 5]]))
})

it('a database that was not told yet what it has forgotten is found older by the next one too', () => {
  const k = ran()
  const second = new Reserves(k.store, realClock, new Map([[7, new Account(7)]]))
  expect(second.begin(2).size).toBe(1)
  second.collecting()
  second.flushed(3)
  second.catchUp()
  expect(new Reserves(k.store, realClock, new Map([[7, new Account(7)]])).begin(3).size).toBe(1)

  second.told(7)
  second.collecting()
  second.flushed(4)
  second.catchUp()
  const known = new Account(7)
  known.memoryLost(k.noted().deliveries[0]!.reserved, 0)
  expect(new Reserves(k.store, realClock, new Map([[7, known]])).begin(4).size).toBe(0)
})

it('what is not taken up yet is noted again, also where it ends before anything was', () => {
  const k = ran()
  const { reserved } = k.noted().deliveries[0]!
  for (const accounts of [new Map<number, Account>(), new Map([[7, new Account(7)]])]) {
    const next = new Reserves(k.store, realClock, accounts)
    next.begin(2)
    next.close()
    expect(k.noted()).toMatchObject({ flush: 4, deliveries: [{ delivery: 7, reserved }] })
  }
})
