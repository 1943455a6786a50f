import { expect, it } from 'vitest'
import type { Counts } from '~/contract/live'
import { Account } from './account'
import { AGAIN_MS, Teller } from './news'

const none = new Account(1).counts()
const tell = (before: Counts, now: Counts) => new Teller(before).tell(now, 0)

it('tells of what rose, the gravest first, and of nothing else', () => {
  expect(tell(none, none)).toEqual([])
  expect(tell(none, { ...none, confirmed: 500, waiting: 3, dropped: 2, rejected: 1 })).toEqual([])
  expect(tell({ ...none, missing: 4 }, { ...none, missing: 1, late: 3 })).toMatchObject([
    { code: 'ledger.arrived', severity: 'good', message: '3 messages told as missing arrived after all, late' },
    { code: 'ledger.late', message: '3 messages late' },
  ])
  expect(tell(none, { ...none, doubled: 2, missing: 1, foreign: 7 })).toMatchObject([
    { code: 'ledger.missing', severity: 'trouble', message: expect.stringContaining('1 message missing') },
    { code: 'ledger.foreign', severity: 'warning' },
    { code: 'ledger.doubled', severity: 'note', message: expect.stringContaining('2 messages') },
  ])
})

it('tells at once when something begins, then sums up once a minute, and leaves none out', () => {
  const teller = new Teller(none)
  const said: [number, string][] = []
  for (let s = 0; s <= 300; s += 5)
    for (const n of teller.tell({ ...none, missing: Math.min(s, 130), altered: s >= 200 ? 1 : 0 }, s * 1000)) said.push([s, n.message.split(':')[0]!])
  expect(said).toEqual([
    [5, '5 messages missing'],
    [5 + AGAIN_MS / 1000, '60 messages missing'],
    [5 + (2 * AGAIN_MS) / 1000, '60 messages missing'],
    [5 + (3 * AGAIN_MS) / 1000, '5 messages missing'],
    [200, '1 message altered'],
  ])
})

it('every grave one says what to do', () => {
  for (const n of tell(none, { ...none, missing: 1, altered: 1, foreign: 1, disordered: 1, unknown: 1 })) expect(n.hint.length).toBeGreaterThan(10)
})

it('names permissions when nothing arrives any more, and the other topic when messages come there', () => {
  const about = { nothingArrives: 'look at permissions', elsewhere: 'on another topic' }
  const only = { ...about, elsewhere: null }
  const teller = new Teller({ ...none, arrived: 10, acknowledged: 10 })
  expect(teller.tell({ ...none, arrived: 20, acknowledged: 20, missing: 3 }, 0, about)[0]?.hint).not.toBe('look at permissions')
  // Six more are missing of which none was acknowledged: lost with the link, at QoS 0.
  expect(teller.tell({ ...none, arrived: 20, acknowledged: 20, missing: 9 }, AGAIN_MS, only)[0]?.hint).not.toBe('look at permissions')
  expect(teller.tell({ ...none, arrived: 20, acknowledged: 30, missing: 19 }, 2 * AGAIN_MS, only)[0]?.hint).toBe('look at permissions')
  expect(teller.tell({ ...none, arrived: 20, acknowledged: 40, missing: 29, altered: 1 }, 3 * AGAIN_MS, about)).toMatchObject([
    { code: 'ledger.missing', hint: 'on another topic' },
    { code: 'ledger.altered', hint: 'on another topic' },
  ])
})
