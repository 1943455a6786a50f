import { describe, expect, it } from 'vitest'
import { HubProfile } from '~/contract/hub-profile'
import { ownViewOf } from './own-view'

const profile = HubProfile.parse({
  name: 'p',
  topic: '{place}',
  saysConnected: 'state.link',
  saysLast: 'last',
  saysTaken: 'n',
  saysRejected: 'no',
  saysToday: 'used.day',
  saysPerDay: 'limit',
  logRows: 'items',
  logAt: 'when',
  logWhy: 'reason',
  logPlace: 'topic',
})
const read = (unit: unknown, log: unknown = {}) => ownViewOf(profile, { unit, log }, '2026-03-01T00:00:00.000Z')

describe('what a registry says', () => {
  it('is read by the ways of the profile', () => {
    const unit = { state: { link: 'connected' }, last: 1_790_000_000, n: '41', no: 2, used: { day: 7 }, limit: 1000 }
    const log = { items: [{ when: '2026-03-01T10:00:00+01:00', reason: 'too large', topic: 'a/b' }] }
    expect(read(unit, log)).toEqual({
      ...{ askedAt: '2026-03-01T00:00:00.000Z', connected: true, lastAt: '2026-09-21T14:13:20.000Z', taken: 41, rejected: 2, today: 7, perDay: 1000 },
      refusals: [{ at: '2026-03-01T09:00:00.000Z', why: 'too large', place: 'a/b' }],
    })
  })

  it.each([[null], ['text'], [[]], [{}], [{ state: 3, last: 'soon', n: Number.NaN, used: null, limit: {} }], [JSON.parse('{"__proto__":{"n":1}}')]])(
    'that is of another form is said by nobody: %j',
    (unit) => {
      const view = read(unit, unit)
      expect([view.connected, view.lastAt, view.taken, view.today, view.perDay, view.refusals]).toEqual([null, null, null, null, null, []])
    },
  )

  it('is bounded', () => {
    const log = { items: Array.from({ length: 1000 }, () => ({ reason: 'x'.repeat(9000) })) }
    const { refusals } = read({}, log)
    expect([refusals.length, refusals[0]!.why.length]).toEqual([50, 300])
  })

  it('takes milliseconds as well', () => expect(read({ last: 1_790_000_000_123 }).lastAt).toBe('2026-09-21T14:13:20.123Z'))
})
