import { describe, expect, it } from 'vitest'
import type { WindowBy } from '~/contract/step'
import { chance } from '../../value/chance'
import type { Scalar } from '../../value/deadband'
import { qualityOf, Status } from '../../value/quality'
import { Window } from './window'

const row = (value: Scalar, status: number = Status.good, time = 0, n = 0) => ({ n, whole: false, values: [value], status: [status], time: [time] })
const over = (by: WindowBy, rows: ReturnType<typeof row>[]) => {
  const w = new Window({ kind: 'window', seconds: 10, messages: null, by, count: 'count' })
  for (const r of rows) w.offer(r, 0)
  return w.due(10_000)[0]!
}

describe('a window', () => {
  it.each([
    ['last', [3, 1, 2], 2],
    ['average', [3, 1, 2], 2],
    ['least', [3, 1, 2], 1],
    ['most', [3, 1, 2], 3],
    ['sum', [3, 1, 2], 6],
    ['last', ['a', 'b'], 'b'],
    ['average', ['a', 'b'], 'b'],
    ['most', [true, false], false],
    ['sum', [2n ** 60n, 1n], 2n ** 60n + 1n],
    ['sum', [2n ** 60n, 0.5], 2 ** 60],
    ['average', [2n ** 60n], 2 ** 60],
    ['most', [2n ** 60n, 5], 2n ** 60n],
    ['sum', [1.7e308, 1.7e308], null],
    ['average', [1.7e308, 1.7e308], 1.7e308],
    ['average', [-0], -0],
  ] as const)('%s of %s is %s', (by, values, expected) => {
    expect(
      over(
        by,
        values.map((v) => row(v)),
      ).values[0],
    ).toStrictEqual(expected)
  })

  it('counts what came in, begins with the first and ends when its time is over', () => {
    const w = new Window({ kind: 'window', seconds: 10, messages: null, by: 'sum', count: 'count' })
    expect(w.nextAt).toBe(Number.POSITIVE_INFINITY)
    w.offer(row(1), 500)
    w.offer(row(2), 9000)
    w.offer(row(7, Status.good, 0, 3), 9500)
    expect(w.nextAt).toBe(10_500)
    expect(w.due(10_499)).toEqual([])
    expect(w.due(10_500)).toMatchObject([{ n: 0, values: [3, 2] }])
    expect(w.nextAt).toBe(19_500)
    w.offer(row(5), 12_000)
    expect(w.due(0, true).map((r) => [r.n, ...r.values])).toEqual([
      [3, 7, 1],
      [0, 5, 1],
    ])
  })

  it('is over too when so many came in, for each kind of message by itself', () => {
    const w = new Window({ kind: 'window', seconds: 10, messages: 3, by: 'sum', count: 'count' })
    const got = [1, 2, 3, 4, 5, 6, 7].map((v, i) => w.offer(row(v, Status.good, 0, i === 3 ? 1 : 0), i))
    expect(got.map((r) => r?.values ?? null)).toEqual([null, null, [6, 3], null, null, null, [18, 3]])
    expect(w.due(0, true).map((r) => [r.n, ...r.values])).toEqual([[1, 4, 1]])
    expect(new Window({ kind: 'window', seconds: 10, messages: 1, by: 'last', count: null }).offer(row(5), 0)).toMatchObject({ values: [5] })
  })

  it('has the newest time, and the worst quality of what it is made of', () => {
    const some = over('average', [row(1, Status.good, 5), row(3, Status.stale, 9), row(null, Status.communication, 7)])
    expect(some).toMatchObject({ values: [2, 3], status: [Status.stale, Status.good], time: [9, Number.NaN] })
    expect(over('average', [row(1), row(null, Status.communication)])).toMatchObject({ values: [1, 2], status: [Status.subNormal, Status.good] })
    expect(over('average', [row(null, Status.communication), row(null, Status.timeout)])).toMatchObject({
      values: [null, 2],
      status: [Status.timeout, Status.good],
    })
  })

  it('says all of it when one of its messages had to', () => {
    expect(over('last', [row(1), { ...row(2), whole: true }, row(3)]).whole).toBe(true)
  })

  it('is what a plain reckoning over all of it is', () => {
    const next = chance(2026)
    for (let round = 0; round < 500; round++) {
      const rows = Array.from({ length: 1 + Math.floor(next() * 40) }, () =>
        next() < 0.2 ? row(null, Status.timeout) : row(Math.round((next() - 0.5) * 1e6) / 64),
      )
      const good = rows.flatMap((r) => (qualityOf(r.status[0]!) === 'bad' ? [] : [r.values[0] as number]))
      const sum = good.reduce((a, b) => a + b, 0)
      const expected: Record<WindowBy, number | null> = {
        last: good.at(-1) ?? null,
        average: good.length > 0 ? sum / good.length : null,
        least: good.length > 0 ? Math.min(...good) : null,
        most: good.length > 0 ? Math.max(...good) : null,
        sum: good.length > 0 ? sum : null,
      }
      for (const by of Object.keys(expected) as WindowBy[]) {
        const [value, count] = over(by, rows).values
        expect(count).toBe(rows.length)
        if (expected[by] === null) expect(value).toBeNull()
        else expect(value).toBeCloseTo(expected[by], 6)
      }
    }
  })
})
