import { describe, expect, it } from 'vitest'
import type { WindowBy } from '~/contract/step'
import { chance } from '../../value/chance'
import type { Scalar } from '../../value/deadband'
import { qualityOf, Status } from '../../value/quality'
import { keyPlaces, OPEN_MOST, Window } from './window'

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
      const expected: Record<Exclude<WindowBy, 'each'>, number | null> = {
        last: good.at(-1) ?? null,
        average: good.length > 0 ? sum / good.length : null,
        least: good.length > 0 ? Math.min(...good) : null,
        most: good.length > 0 ? Math.max(...good) : null,
        sum: good.length > 0 ? sum : null,
      }
      for (const by of Object.keys(expected) as (keyof typeof expected)[]) {
        const [value, count] = over(by, rows).values
        expect(count).toBe(rows.length)
        if (expected[by] === null) expect(value).toBeNull()
        else expect(value).toBeCloseTo(expected[by], 6)
      }
    }
  })
})

describe('a window of lists', () => {
  const lists = (messages: number) => new Window({ kind: 'window', seconds: 10, messages, by: 'each', count: 'count' })

  it('has every value in its place, each with its own quality and time', () => {
    const w = lists(3)
    expect(w.offer(row(1, Status.good, 5), 0)).toBeNull()
    expect(w.offer(row(null, Status.timeout, 6), 1)).toBeNull()
    expect(w.offer(row('x', Status.stale, 7), 2)).toEqual({
      ...{ n: 0, whole: false },
      values: [1, null, 'x', 3],
      status: [Status.good, Status.timeout, Status.stale, Status.good],
      time: [5, 6, 7, Number.NaN],
    })
  })

  it('that is over before it is full has no values in the places that none came for', () => {
    const w = lists(3)
    w.offer(row(1, Status.good, 5), 0)
    expect(w.due(10_000)[0]).toMatchObject({ values: [1, null, null, 1], status: [Status.good, Status.noData, Status.noData, Status.good] })
  })
})

describe('a window with a key', () => {
  const two = (key: Scalar, value: number, n = 0) => ({ n, whole: false, values: [key, value], status: [0, 0], time: [0, 0] })
  const apart = (part: object = {}) =>
    new Window({ kind: 'window', seconds: 10, messages: null, by: 'sum', count: null, key: 'batch', ...part }, () => 0)

  it('gathers what has the same value of it, of each message by itself; texts are no numbers', () => {
    const w = apart()
    for (const r of [two('a', 1), two('b', 2), two('a', 3), two('b', 4, 1), two('1', 5), two(1, 6), two(null, 7), two(null, 8)]) w.offer(r, 0)
    expect(w.due(10_000).map((r) => [r.n, ...r.values])).toEqual([
      [0, 'a', 4],
      [0, 'b', 2],
      [1, 'b', 4],
      [0, '1', 5],
      [0, 1, 6],
      [0, null, 15],
    ])
  })

  it('keeps the key as it is, whatever numbers become', () => {
    const w = apart({ by: 'each', messages: 2 })
    w.offer(two(17, 1), 0)
    expect(w.offer(two(17, 2), 0)?.values).toEqual([17, 1, 2])
    const sums = apart()
    sums.offer(two(17, 1), 0)
    sums.offer(two(17, 2), 0)
    expect(sums.due(0, true)[0]!.values).toEqual([17, 3])
  })

  it('of which there are too many ends the oldest, and loses none', () => {
    const w = apart()
    let out = 0
    for (let i = 0; i < OPEN_MOST + 500; i++) if (w.offer(two(i, 1), i)) out++
    expect(out).toBe(500)
    expect(w.due(0, true)).toHaveLength(OPEN_MOST)
  })

  it('finds it where each equipment has it', () => {
    const member = (key: string) => ({ key }) as never
    const stage = {
      step: 0,
      gates: [],
      equipment: [[member('a'), member('batch')], [member('batch')], [member('a')]],
      work: { kind: 'window' as const, seconds: 1, messages: null, by: 'last' as const, count: null, key: 'batch' },
    }
    const at = keyPlaces(stage, (n) => n)
    expect([at(0), at(1), at(2)]).toEqual([1, 0, null])
    expect(keyPlaces({ ...stage, work: { ...stage.work, key: undefined } }, (n) => n)(0)).toBeNull()
  })
})
