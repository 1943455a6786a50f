import { expect, it } from 'vitest'
import { Account } from './account'
import { news } from './news'

const none = new Account(1).counts()

it('tells of what rose, the gravest first, and of nothing else', () => {
  expect(news(none, none)).toEqual([])
  expect(news(none, { ...none, confirmed: 500, waiting: 3, dropped: 2, rejected: 1 })).toEqual([])
  expect(news({ ...none, missing: 4 }, { ...none, missing: 1, late: 3 })).toMatchObject([{ code: 'ledger.late', message: '3 messages late' }])
  expect(news(none, { ...none, doubled: 2, missing: 1, foreign: 7 })).toMatchObject([
    { code: 'ledger.missing', severity: 'trouble', message: expect.stringContaining('1 message missing') },
    { code: 'ledger.foreign', severity: 'warning' },
    { code: 'ledger.doubled', severity: 'note', message: expect.stringContaining('2 messages') },
  ])
})

it('every grave one says what to do', () => {
  const all = { ...none, missing: 1, altered: 1, foreign: 1, disordered: 1, unknown: 1 }
  for (const n of news(none, all)) expect(n.hint.length).toBeGreaterThan(10)
})
