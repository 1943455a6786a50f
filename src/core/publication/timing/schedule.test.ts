import { describe, expect, it } from 'vitest'
import { Schedule } from './schedule'

const times = (text: string, zone: string, after: string, count = 5) =>
  Schedule.of(text, zone)
    .nextOf(count, Date.parse(after))
    .map((t) => new Date(t).toISOString().slice(0, 19))

describe('a schedule', () => {
  it('goes by the clock of its zone', () => {
    expect(times('0 6 * * MON-FRI', 'Europe/Berlin', '2026-11-27T00:00:00Z')).toEqual([
      '2026-11-27T05:00:00',
      '2026-11-30T05:00:00',
      '2026-12-01T05:00:00',
      '2026-12-02T05:00:00',
      '2026-12-03T05:00:00',
    ])
    expect(times('*/20 30 14 * * *', 'UTC', '2026-11-27T00:00:00Z', 2)).toEqual(['2026-11-27T14:30:00', '2026-11-27T14:30:20'])
  })

  it('in the hour that is left out in spring comes once, and in the hour that comes twice in autumn once a day too', () => {
    const days = (list: string[]) => list.map((t) => t.slice(0, 10))
    expect(days(times('30 2 * * *', 'Europe/Berlin', '2026-03-27T12:00:00Z', 4))).toEqual(['2026-03-28', '2026-03-29', '2026-03-30', '2026-03-31'])
    expect(days(times('30 2 * * *', 'Europe/Berlin', '2026-10-23T12:00:00Z', 4))).toEqual(['2026-10-24', '2026-10-25', '2026-10-26', '2026-10-27'])
  })

  it('every quarter of an hour goes on evenly through both', () => {
    for (const after of ['2026-03-28T23:50:00Z', '2026-10-24T23:50:00Z']) {
      const all = Schedule.of('*/15 * * * *', 'Europe/Berlin').nextOf(20, Date.parse(after))
      expect(all.slice(1).map((t, i) => t - all[i]!)).toEqual(Array(19).fill(900_000))
    }
  })

  it.each([
    ['', /Five fields/],
    ['* * * *', /Five fields/],
    ['61 * * * *', /minute/],
    ['* * 30 2 *', /never/],
    ['x * * * *', /./],
    ['*'.repeat(300), /At most/],
  ])('%s is refused with what is wrong', (text, says) => expect(() => Schedule.of(text, 'UTC')).toThrow(says))

  it.each(['Nowhere/Town', '', 'Europe', '__proto__'])('a zone that is none is refused: %s', (zone) =>
    expect(() => Schedule.of('0 0 * * *', zone)).toThrow(/time zone/),
  )
})
