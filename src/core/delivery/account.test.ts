import { describe, expect, it } from 'vitest'
import type { Verdict } from '~/contract/live'
import { Account, defaultLimits, type Seen, type Sending, type WitnessView } from './account'
import { SLICE_MS } from './account-changes'
import type { Assurance } from './envelope'
import { RangeSet } from './ranges'
import { emptyStanding } from './verdict'

/** A witness that was there all the time, to which the broker has shown that it holds nothing back. */
const up: WitnessView = { connectedAt: 0, clearAt: 1e12, seenAt: 0, seenAnyAt: 0, coveredSince: () => 0 }
const message = (seq: number, part: Partial<Sending> = {}): Sending => ({
  seq,
  topic: 't',
  digest: seq * 11,
  assurance: 'acknowledged',
  deviceAt: seq,
  producedAt: seq,
  turn: 0,
  madeMono: seq,
  ...part,
})
const { lateMs, giveUpMs } = defaultLimits

/** An account with messages 1..n stored and sent at their number of milliseconds, all on one topic. */
function sending(n: number, limits = defaultLimits, assurance: Assurance = 'acknowledged') {
  const settled: number[] = []
  const account = new Account(1, emptyStanding(), true, limits)
  const send = (seq: number, now = seq) => account.sent(message(seq, { assurance }), now, () => settled.push(seq))
  for (let seq = 1; seq <= n; seq++) {
    account.next(seq)
    account.stored(seq, seq, 0)
    send(seq)
  }
  const see = (seq: number, at: number, part: { digest?: number; topic?: string } = {}): Seen | null => {
    let result: Seen | null = null
    account.seen({ seq, topic: 't', digest: seq * 11, at, mono: at, counted: (how) => (result = how), ...part })
    return result
  }
  return { account, settled, see, send }
}

it('a copy without an id is found by topic and payload in whichever part of the topic keeps its order', () => {
  const account = new Account(1, emptyStanding(), true, defaultLimits)
  for (const [i, within] of ['t a', 't b', 't b', 't'].entries()) {
    account.next(i + 1)
    account.stored(i + 1, i + 1, 0)
    account.sent(message(i + 1, { within, digest: i < 2 ? 7 : 8 }), i + 1, () => undefined)
  }
  expect(account.find('t', 7)).toBe(1)
  account.seen({ seq: 1, topic: 't', digest: 7, at: 5, mono: 5, counted: () => undefined })
  expect(account.find('t', 7)).toBe(2)
  expect(account.find('t', 8)).toBe(3)
  expect(account.find('u', 8)).toBeNull()
})

describe('one message', () => {
  it('is confirmed once the witness saw it, and then settled', () => {
    const { account, settled, see } = sending(1)
    account.acknowledged(1, 10)
    expect(account.counts()).toMatchObject({ produced: 1, stored: 1, sent: 1, acknowledged: 1, arrived: 0, waiting: 1 })
    expect(account.verdict(1)).toBe('waiting')
    expect(see(1, 20)).toBe('confirmed')
    expect(account.counts()).toMatchObject({ arrived: 1, confirmed: 1, waiting: 0, late: 0, doubled: 0 })
    expect(account.verdict(1)).toBe('confirmed')
    expect(settled).toEqual([1])
  })

  it('is late when it took longer than the limit', () => {
    const { account, see } = sending(1)
    expect(see(1, 1 + lateMs + 1)).toBe('late')
    expect(account.counts()).toMatchObject({ arrived: 1, confirmed: 0, late: 1 })
  })

  it('is on time up to the limit itself', () => {
    expect(sending(1).see(1, 1 + lateMs)).toBe('confirmed')
  })

  it('is doubled when another copy comes, however many', () => {
    const { account, see } = sending(1)
    see(1, 5)
    expect(see(1, 7)).toBe('doubled')
    expect(see(1, 8)).toBe('doubled')
    expect(account.counts()).toMatchObject({ arrived: 1, confirmed: 0, doubled: 1 })
    expect(account.take().moves).toEqual([{ seq: 1, from: 'confirmed', to: 'doubled' }])
  })

  it('is altered when its payload or its topic is another', () => {
    expect(sending(1).see(1, 5, { digest: 999 })).toBe('altered')
    expect(sending(1).see(1, 5, { topic: 'elsewhere' })).toBe('altered')
    const { see, account } = sending(1)
    see(1, 5)
    expect(see(1, 6, { digest: 999 })).toBe('altered')
    expect(account.counts()).toMatchObject({ arrived: 1, altered: 1, doubled: 0, confirmed: 0 })
  })

  it('is disordered when a later one of its topic came first, and only it', () => {
    const { see, account } = sending(4)
    expect([see(1, 5), see(3, 6), see(4, 7), see(2, 8)]).toEqual(['confirmed', 'confirmed', 'confirmed', 'disordered'])
    expect(account.counts()).toMatchObject({ arrived: 4, confirmed: 3, disordered: 1 })
  })

  it('is not disordered by a later one of another topic', () => {
    const account = new Account(1)
    const how: Seen[] = []
    for (const seq of [1, 2]) {
      account.next(seq)
      account.stored(seq, seq, 0)
      account.sent(message(seq, { topic: `t${seq}`, digest: 0 }), seq, () => undefined)
    }
    for (const seq of [2, 1]) account.seen({ seq, topic: `t${seq}`, digest: 0, at: 5, mono: 5, counted: (h) => how.push(h) })
    expect(how).toEqual(['confirmed', 'confirmed'])
  })

  it('that was never made is foreign', () => {
    const { account, see } = sending(1)
    expect(see(2, 5)).toBe('foreign')
    expect(see(0, 5)).toBe('foreign')
    expect(account.counts()).toMatchObject({ foreign: 2, arrived: 0 })
    expect(account.take().slices[0]).toMatchObject({ start: 0, foreign: 2, produced: 1 })
  })

  it('is missing when acknowledged and not seen, never while the witness is away or behind', () => {
    const { account, see } = sending(1)
    account.acknowledged(1, 10)
    const later = 10 + lateMs + 1
    account.judge(later, null)
    // The broker has shown nothing since, or only that it was through with what it had before the limit.
    const never = Number.NEGATIVE_INFINITY
    expect(account.judge(later, { ...up, clearAt: never, seenAt: never })).toBe(1)
    expect(account.judge(later, { ...up, clearAt: 10 + lateMs, seenAt: 10 + lateMs })).toBe(1)
    expect(account.counts().missing).toBe(0)
    account.judge(later, up)
    expect(account.counts()).toMatchObject({ missing: 1, waiting: 0 })
    expect(see(1, later + 1)).toBe('late')
    expect(account.counts()).toMatchObject({ missing: 0, arrived: 1, late: 1 })
  })

  it('is unknown while the witness is away and the destination has it, and only then', () => {
    const { account, see } = sending(2)
    account.acknowledged(1, 10)
    expect(account.counts(true)).toMatchObject({ unknown: 1, waiting: 1 })
    expect(account.counts(false)).toMatchObject({ unknown: 0, waiting: 2 })
    see(1, 20)
    expect(account.counts(true)).toMatchObject({ unknown: 0, waiting: 1, confirmed: 1 })
  })

  it('is not missing before it is acknowledged, however long that takes', () => {
    const { account } = sending(1)
    account.judge(1e9, up)
    expect(account.counts()).toMatchObject({ missing: 0, waiting: 1 })
  })

  it('ends as unknown when it went out before the witness began to listen', () => {
    const { account, settled } = sending(1)
    account.acknowledged(1, 10)
    account.judge(20 + lateMs + 1, { ...up, coveredSince: () => 20 })
    expect(account.counts()).toMatchObject({ unknown: 1, missing: 0, waiting: 0 })
    expect(settled).toEqual([1])
  })

  it('sent again while the witness listens: missing, but where what goes again is kept once, so that its copy may be that of before', () => {
    for (const [keepsOnce, end] of [
      [false, 'missing'],
      [true, 'unknown'],
    ] as const) {
      const { account } = sending(1)
      account.keepsOnce = keepsOnce
      account.sent(message(1), 30, () => undefined)
      account.acknowledged(1, 31)
      account.judge(31 + lateMs + 1, { ...up, coveredSince: () => 20 })
      expect(account.verdict(1)).toBe(end)
    }
  })

  it('what is only sent ends as unknown when the witness connected only afterwards, what is acknowledged as missing', () => {
    for (const [assurance, end] of [
      ['sent', 'unknown'],
      ['acknowledged', 'missing'],
      ['once', 'missing'],
    ] as const) {
      const { account } = sending(1, defaultLimits, assurance)
      account.acknowledged(1, 10)
      account.judge(20 + lateMs + 1, { ...up, connectedAt: 20 })
      expect(account.verdict(1)).toBe(end)
    }
  })

  it('is given up after the longer limit, and mended when it comes after all', () => {
    const { account, settled, see } = sending(1)
    account.acknowledged(1, 10)
    account.judge(10 + giveUpMs + 1, up)
    expect(settled).toEqual([1])
    expect(account.counts().missing).toBe(1)
    account.take()
    expect(see(1, 1e9)).toBe('late')
    expect(account.counts()).toMatchObject({ missing: 0, arrived: 1, late: 1 })
    expect(account.take().moves).toEqual([{ seq: 1, from: 'missing', to: 'late' }])
  })

  it('without a witness is settled by its acknowledgement, and nobody knows more', () => {
    const settled: number[] = []
    const account = new Account(1, emptyStanding(), false)
    account.next(1)
    account.stored(1, 1, 0)
    account.sent(message(1), 1, () => settled.push(1))
    account.acknowledged(1, 5)
    expect(settled).toEqual([1])
    expect(account.counts()).toMatchObject({ acknowledged: 1, waiting: 0, arrived: 0, unknown: 1 })
  })

  it('pushed out of the outbox before it went out counts as dropped, in its slice too', () => {
    const account = new Account(1)
    account.stored(1, 1, 0)
    account.dropped(1, 1, 0)
    expect(account.counts()).toMatchObject({ dropped: 1, waiting: 0, acknowledged: 0 })
    expect(account.take().slices[0]).toMatchObject({ start: 0, produced: 1, dropped: 1 })
  })

  it('pushed out after it went out, or may have by an earlier run, it may have arrived: unknown, until it is seen', () => {
    const { account } = sending(1)
    account.dropped(1, 1, 0)
    expect(account.counts()).toMatchObject({ dropped: 0, unknown: 1, waiting: 0 })
    account.seen({ seq: 1, topic: 't', digest: 1, at: 5, mono: 5, counted: () => undefined })
    expect(account.counts()).toMatchObject({ unknown: 0, arrived: 1 })
    const later = new Account(1)
    later.stored(1, 1, 0)
    later.fromBefore(1)
    later.twice(1)
    later.dropped(1, 1, 0)
    expect(later.counts()).toMatchObject({ dropped: 0, unknown: 1, waiting: 0 })
  })

  it('refused by the destination is settled and not missing', () => {
    const { account, settled } = sending(1)
    account.refused(1, 1, 0)
    account.judge(1e9, up)
    expect(account.counts()).toMatchObject({ rejected: 1, missing: 0, waiting: 0, acknowledged: 0 })
    expect(settled).toEqual([1])
  })

  it('seen before this run sent it again is counted when it does, in the order in which it came', () => {
    const before = sending(3)
    const written = before.account.take()
    const account = new Account(1, { ...emptyStanding(), storedThrough: written.total.storedThrough })
    const how: [number, Seen][] = []
    const see = (seq: number) => account.seen({ seq, topic: 't', digest: seq, at: 10, mono: 10, counted: (h) => how.push([seq, h]) })
    see(2)
    see(1)
    see(2)
    expect(how).toEqual([])
    expect(account.earlyCount).toBe(3)
    for (const seq of [1, 2, 3]) account.sent(message(seq, { digest: seq }), 10, () => undefined)
    expect(how).toEqual([
      [2, 'confirmed'],
      [1, 'disordered'],
      [2, 'doubled'],
    ])
  })
})

it('keeps only so many messages open', () => {
  const { account, settled } = sending(12, { ...defaultLimits, openMax: 10 })
  expect(account.openCount).toBe(10)
  expect(settled).toEqual([1, 2])
  expect(account.counts().unknown).toBe(2)
})

it('writes of a million clean messages no more than of ten', () => {
  const account = new Account(1)
  for (let seq = 1; seq <= 1_000_000; seq++) {
    account.next(seq)
    account.stored(seq, 1000, 0)
    account.sent(message(seq, { topic: `t${seq % 100}`, digest: seq, producedAt: 1000, madeMono: 1000 }), 1000, () => undefined)
    account.acknowledged(seq, 1001)
    account.seen({ seq, topic: `t${seq % 100}`, digest: seq, at: 1002, mono: 1002, counted: () => undefined })
  }
  const change = account.take()
  expect(change.slices.length).toBe(1)
  expect(change.windows).toEqual([])
  expect(change.total).toMatchObject({ answeredThrough: 1_000_000, knownThrough: 1_000_000, confirmed: 1_000_000 })
  expect(account.openCount).toBe(0)
})

describe('a wall clock that is set', () => {
  it('back: slices that come again are others, so that numbers and slices rise together', () => {
    const account = new Account(1)
    const make = (wall: number) => {
      const { seq, turn } = account.next(wall)
      account.stored(seq, wall, turn)
      return turn
    }
    expect([5, 5.5, 3, 3.2, 5, 4].map((n) => make(n * SLICE_MS))).toEqual([0, 0, 1, 1, 1, 2])
    const { slices, total } = account.take()
    expect(slices.map((s) => [s.start, s.firstSeq, s.produced])).toEqual([
      [5 * SLICE_MS, 1, 2],
      [3 * SLICE_MS + 1, 3, 2],
      [5 * SLICE_MS + 1, 5, 1],
      [4 * SLICE_MS + 2, 6, 1],
    ])
    expect(total).toMatchObject({ turns: 2, madeAt: 4 * SLICE_MS })
  })

  it('forward by ten years and back: times are what they were, and an hour late is late', () => {
    const account = new Account(1)
    const [future, now] = [Date.UTC(2036, 0, 1), Date.UTC(2026, 10, 27)]
    for (const [wall, mono] of [
      [future, 0],
      [now, 10],
    ] as const) {
      const { seq, turn } = account.next(wall)
      account.stored(seq, wall, turn)
      account.sent(message(seq, { producedAt: wall, turn, madeMono: mono }), mono, () => undefined)
      account.acknowledged(seq, mono)
    }
    const how: Seen[] = []
    account.seen({ seq: 2, topic: 't', digest: 22, at: now + 3_600_000, mono: 3_600_010, counted: (h) => how.push(h) })
    expect(how).toEqual(['late'])
    expect(account.take().slices.map((s) => s.produced)).toEqual([1, 1])
  })
})

describe('numbers', () => {
  /** What a ledger that reads back what was written would find. */
  const again = (a: Account) => {
    const { total } = a.take()
    const s = { ...emptyStanding(), odd: a.standing.odd, tally: { ...a.standing.tally } }
    s.known.append(1, total.knownThrough)
    s.answered.append(1, total.answeredThrough)
    return new Account(1, { ...s, storedThrough: total.storedThrough, madeAt: total.madeAt, turns: total.turns })
  }

  it('of messages that were pushed out of memory are never given again, and stay told', () => {
    const a = new Account(1)
    for (let i = 1; i <= 3; i++) a.next(1000)
    for (const seq of [1, 2]) a.dropped(seq, 1000, 0)
    expect(a.counts()).toMatchObject({ produced: 2, dropped: 2, waiting: 0 })
    const b = again(a)
    expect(b.counts()).toMatchObject({ produced: 2, dropped: 2, waiting: 0 })
    expect(b.next(2000).seq).toBe(3)
  })

  it('that were passed over went with their memory: dropped, and no number waits for ever', () => {
    const a = new Account(1)
    for (let i = 1; i <= 5; i++) a.next(1000)
    a.stored(5, 1000, 0)
    expect(a.counts()).toMatchObject({ produced: 5, dropped: 4, waiting: 1 })
    expect(a.take().slices[0]).toMatchObject({ produced: 5, dropped: 4, firstSeq: 1 })
  })

  it('whose place in the outbox is gone are unknown, those that are there still wait', () => {
    const { account } = sending(6)
    account.acknowledged(2, 3)
    const there = new RangeSet()
    there.append(3, 4)
    expect(account.resolveGone(there)).toBe(4)
    expect(account.counts()).toMatchObject({ produced: 6, unknown: 4, waiting: 2 })
    expect(account.lostPlace(1, 6)).toBe(2)
    expect(account.counts()).toMatchObject({ unknown: 6, waiting: 0 })
  })
})

it('a message that is only sent, into a lost link, is neither acknowledged nor sent again, and missing when it does not come', () => {
  const { account, see } = sending(2, defaultLimits, 'sent')
  account.leftAlone(1, 10)
  account.leftAlone(2, 10)
  expect(account.counts()).toMatchObject({ acknowledged: 0, waiting: 2 })
  expect(see(1, 12)).toBe('confirmed')
  account.judge(11 + lateMs, up)
  expect(account.verdict(2)).toBe('missing')
})

it('knows which went out more than once: only of those a second copy is of our making', () => {
  const { account, send } = sending(3)
  send(2, 50)
  expect([1, 2, 3].map((seq) => account.wentOnce(seq))).toEqual([true, false, true])
})

it('writes open numbers by window, and windows that are behind as empty', () => {
  const account = new Account(1)
  for (let seq = 1; seq <= 10_000; seq++) {
    account.next(seq)
    account.stored(seq, 1000, 0)
    account.sent(message(seq, { topic: `t${seq % 2}`, producedAt: 1000 }), 1000, () => undefined)
    if (seq !== 1) account.acknowledged(seq, 1001)
    if (seq !== 1) account.seen({ seq, topic: `t${seq % 2}`, digest: seq * 11, at: 1002, mono: 1002, counted: () => undefined })
  }
  const open = account.take()
  expect(open.total).toMatchObject({ knownThrough: 0, answeredThrough: 0 })
  expect(open.windows.map((w) => [w.window, w.sets.known])).toEqual([
    [0, '{[2,4096)}'],
    [1, '{[4096,8192)}'],
    [2, '{[8192,10001)}'],
  ])
  account.acknowledged(1, 1003)
  account.seen({ seq: 1, topic: 't1', digest: 11, at: 1004, mono: 1004, counted: () => undefined })
  const closed = account.take()
  expect(closed.total).toMatchObject({ knownThrough: 10_000, answeredThrough: 10_000 })
  expect(closed.windows.map((w) => [w.window, w.sets.known, w.sets.answered])).toEqual([
    [0, '{}', '{}'],
    [1, '{}', '{}'],
  ])
})

it('knows a copy without id by its payload: the oldest on its way, else one that arrived', () => {
  const { account, see } = sending(3)
  expect(account.find('t', 22)).toBe(2)
  expect(account.find('t', 77)).toBe(null)
  expect(account.find('other', 22)).toBe(null)
  see(3, 5)
  expect(account.find('t', 11)).toBe(1)
  expect(account.find('t', 33)).toBe(3)
})

it('gives the worst of what holds', () => {
  const standing = emptyStanding()
  standing.storedThrough = 9
  const account = new Account(1, standing)
  const expectVerdict = (v: Verdict) => expect(account.verdict(4)).toBe(v)
  standing.known.add(4)
  expectVerdict('confirmed')
  for (const set of ['late', 'disordered', 'doubled', 'altered'] as const) {
    standing.odd[set].add(4)
    expectVerdict(set)
  }
  expect(account.verdict(5)).toBe('waiting')
  expect(account.verdict(10)).toBe(null)
})

it('refused, and seen after all: late only when it is', () => {
  for (const [at, verdict] of [
    [lateMs, 'confirmed'],
    [lateMs + 2, 'late'],
  ] as const) {
    const { account, see } = sending(1)
    account.refused(1, 1, 0)
    expect(see(1, at)).toBe(verdict)
    expect(account.counts()).toMatchObject({ rejected: 0, [verdict]: 1, waiting: 0 })
  }
})

describe('what an earlier engine sent', () => {
  /** The filter was granted at `granted`; what the message's times say is that of the wall clock then. */
  const judged = (granted: number, turn: number, assurance: Assurance) => {
    const account = new Account(1, { ...emptyStanding(), storedThrough: 1, madeAt: 50_000, turns: turn })
    account.fromBefore(1)
    account.sent(message(1, { assurance, madeMono: 50_000, producedAt: 50_000 }), 100_000, () => undefined)
    account.acknowledged(1, 100_000)
    account.judge(1e9, { ...up, coveredSince: () => granted })
    return account.verdict(1)
  }

  it('what is to be passed on once may have gone out as soon as it was made: missing only if somebody listened then, by a clock that nobody has set back since', () => {
    expect(judged(39_000, 0, 'once')).toBe('missing')
    expect(judged(45_000, 0, 'once')).toBe('unknown')
    expect(judged(39_000, 1, 'once')).toBe('unknown')
    expect(judged(99_000, 1, 'acknowledged')).toBe('missing')
  })

  it('went out more than once for every later engine too', () => {
    const { account, send } = sending(3)
    send(2)
    const later = new Account(1, account.standing)
    expect([later.wentOnce(1), later.wentOnce(2)]).toEqual([true, false])
    expect(account.take().windows[0]!.sets.resent).toBe('{[2,3)}')
  })

  it.each([
    ['refused', (a: Account) => a.refused(1, 1, 0)],
    ['pushed out', (a: Account) => a.dropped(1, 1, 0)],
    ['lost with its place', (a: Account) => void a.lostPlace(1, 1)],
    ['gone from the outbox', (a: Account) => void a.resolveGone(new RangeSet())],
  ])('is counted when it does not go out again, since it is %s', (_, end) => {
    const account = new Account(1, { ...emptyStanding(), storedThrough: 1 })
    let how: Seen | null = null
    account.seen({ seq: 1, topic: 't', digest: 11, at: 5, mono: 5, counted: (h) => (how = h) })
    expect([how, account.earlyCount]).toEqual([null, 1])
    end(account)
    expect([how, account.earlyCount, account.verdict(1)]).toEqual(['late', 0, 'late'])
  })
})

it('remembers digests only where copies carry no ids', () => {
  for (const byId of [true, false]) {
    const account = new Account(1, emptyStanding(), true, defaultLimits, byId)
    const { seq } = account.next(1)
    account.stored(seq, 1, 0)
    account.sent(message(seq), 1, () => undefined)
    account.acknowledged(seq, 1)
    account.seen({ seq, topic: 't', digest: 11, at: 2, mono: 2, counted: () => undefined })
    expect(account.find('t', 11)).toBe(byId ? null : seq)
  }
})
