import { describe, expect, it } from 'vitest'
import { ProofLimits } from '~/contract/prove'
import { judgeLimits, type Measured, outcomeOf } from './limits'
import { Curve, Durations, noCounts, piecesOf, sumOf } from './measure'
import { faultWords } from './words'

const limits = (part: Partial<ProofLimits> = {}) => ProofLimits.parse(part)
const measured = (part: Partial<Measured> = {}, counts: object = {}): Measured => ({
  counts: { ...noCounts(), produced: 100, confirmed: 100, ...counts },
  latency: { p50: 10, p95: 30, p99: 80, max: 200, count: 100 },
  ...{ unwitnessed: [], unseen: 0, recoveries: [] },
  ...part,
})
const short = (l: ProofLimits, m: Measured) => judgeLimits(l, m).map((r) => `${r.limit} ${r.outcome} ${r.measured}`)

describe('limits', () => {
  it('are held where nothing is wrong', () => {
    const all = judgeLimits(limits({ p99Ms: 80, disordered: 0, late: 0 }), measured())
    expect(all.map((r) => r.outcome)).toEqual(Array.from({ length: 9 }, () => 'held'))
    expect(outcomeOf(all)).toBe('held')
  })

  it.each([
    ['one missing', {}, measured({}, { missing: 1 }), 'missing broken 1'],
    ['as many as are allowed', { doubled: 3 }, measured({}, { doubled: 3 }), 'doubled held 3'],
    ['one more', { doubled: 3 }, measured({}, { doubled: 4 }), 'doubled broken 4'],
    ['what has no verdict when it ends is not known', {}, measured({}, { waiting: 2 }), 'unknown broken 2'],
    ['too slow', { p99Ms: 79 }, measured(), 'p99Ms broken 80'],
    ['nothing to time', { p99Ms: 79 }, measured({ latency: null }), 'p99Ms unproven null'],
    ['nothing produced', {}, measured({}, { produced: 0, confirmed: 0 }), 'missing unproven null'],
    ['nobody reads the far end', {}, measured({ unwitnessed: ['Press'], unseen: 100 }, { unknown: 100 }), 'altered unproven null'],
    ['which leaves what nobody knows unproven', {}, measured({ unwitnessed: ['Press'], unseen: 100 }, { unknown: 100 }), 'unknown unproven null'],
    ['but what is wrong elsewhere is', {}, measured({ unwitnessed: ['Press'], unseen: 99 }, { unknown: 100 }), 'unknown broken 1'],
    ['what is dropped is known all the same', {}, measured({ unwitnessed: ['Press'] }, { dropped: 1 }), 'dropped broken 1'],
    [
      'back in time',
      { recoveredS: 2 },
      measured({
        recoveries: [
          { words: 'a', begun: true, recoveredS: 2 },
          { words: 'b', begun: true, recoveredS: 0.4 },
        ],
      }),
      'recoveredS held 2',
    ],
    [
      'a fault for which it ended too early is not held against it',
      { recoveredS: 2 },
      measured({
        recoveries: [
          { words: 'a', begun: true, recoveredS: 1 },
          { words: 'b', begun: false, recoveredS: null },
        ],
      }),
      'recoveredS unproven null',
    ],
    ['back too late', { recoveredS: 2 }, measured({ recoveries: [{ words: 'a', begun: true, recoveredS: 2.1 }] }), 'recoveredS broken 2.1'],
    [
      'never back',
      { recoveredS: 2 },
      measured({
        recoveries: [
          { words: 'a', begun: true, recoveredS: null },
          { words: 'b', begun: true, recoveredS: 1 },
        ],
      }),
      'recoveredS broken null',
    ],
    ['nothing to come back from', { recoveredS: 2 }, measured(), 'recoveredS unproven null'],
  ] as const)('%s', (_words, part, m, wanted) => {
    expect(short(limits(part), m)).toContain(wanted)
  })

  it('one that is broken breaks all, one that is unproven leaves it open, and no limits prove nothing', () => {
    expect(outcomeOf(judgeLimits(limits({ p99Ms: 1, recoveredS: 1 }), measured()))).toBe('broken')
    expect(outcomeOf(judgeLimits(limits({ recoveredS: 1 }), measured()))).toBe('unproven')
    expect(outcomeOf([])).toBe('unproven')
  })

  it('say what was found and what is allowed', () => {
    const words = judgeLimits(
      limits({ missing: 2, recoveredS: 5 }),
      measured({ recoveries: [{ words: 'Site broker cut off for 3 s', begun: true, recoveredS: 7 }] }, { missing: 3, waiting: 1 }),
    )
    expect(words.map((w) => w.words)).toContain('3 missing messages, at most 2 are allowed')
    expect(words.map((w) => w.words)).toContain('1 messages whose fate nobody knows, 1 of them without a verdict yet, at most 0 are allowed')
    expect(judgeLimits(limits({ p99Ms: 9000 }), measured({ latency: { p50: 1, p95: 1, p99: 17_109.4, max: 2, count: 1 } })).at(-1)!.words).toBe(
      '99 of 100 arrived within 17.1 s, 9 s are allowed',
    )
    expect(words.map((w) => w.words)).toContain('all was well 7 s after Site broker cut off for 3 s, 5 s are allowed')
  })
})

describe('what is measured', () => {
  it('durations have quantiles that are no longer than the longest', () => {
    const d = new Durations()
    expect(d.summary).toBeNull()
    for (let i = 1; i <= 1000; i++) d.add(i)
    const s = d.summary!
    expect(s).toMatchObject({ max: 1000, count: 1000 })
    expect(s.p50 / 500).toBeCloseTo(1, 1)
    expect(s.p99).toBeLessThanOrEqual(1000)
    const one = new Durations()
    one.add(0.2)
    expect(one.summary).toEqual({ p50: 0.2, p95: 0.2, p99: 0.2, max: 0.2, count: 1 })
  })

  it('a curve has a point for each second, and for longer runs fewer', () => {
    const short = new Curve(10)
    for (let s = 0; s < 10; s++) short.add(s + 0.5, s)
    expect(short.all.map((p) => p.atS)).toEqual([0, 1, 2, 3, 4, 5, 6, 7, 8, 9])
    const long = new Curve(86_400)
    for (let s = 0; s < 86_400; s += 10) long.add(s, 5)
    expect(long.all.length).toBeLessThanOrEqual(240)
    expect(long.all.reduce((n, p) => n + p.count, 0)).toBe(8640)
  })

  it('a curve has no line where nothing came', () => {
    const at = (...all: number[]) => all.map((atS) => ({ atS }))
    expect(piecesOf(at(0, 1, 2, 9, 10, 13)).map((piece) => piece.map((p) => p.atS))).toEqual([
      [0, 1, 2],
      [9, 10, 13],
    ])
    expect(piecesOf(at(4))).toEqual([at(4)])
    expect(piecesOf([])).toEqual([])
  })

  it('counts add up', () => {
    expect(
      sumOf([
        { ...noCounts(), produced: 2, missing: 1 },
        { ...noCounts(), produced: 3 },
      ]),
    ).toMatchObject({ produced: 5, missing: 1, confirmed: 0 })
  })
})

it.each([
  ['cut', 'b cut off for 5 s'],
  ['kill', 'the connections of b reset'],
  ['refuse', 'b lets no new connection in for 5 s'],
  ['silent', 'b silent on the way back for 5 s'],
  ['slow', 'b slower by 20 ms for 5 s'],
  ['thin', 'b at 100 octets/s for 5 s'],
] as const)('a fault of kind %s in words', (kind, words) => {
  expect(faultWords({ kind, forS: 5, way: 'back', ms: 20, octetsPerS: 100 }, 'b')).toBe(words)
})
