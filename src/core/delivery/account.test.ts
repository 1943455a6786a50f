import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { Account, defaultLimits, emptyStanding, SLICE_MS, type Standing, standingSets } from './account'
import { RangeSet } from './ranges'

const up = { upSince: 0, blindBefore: 0 }

/** An account with messages 1..n stored and sent at their number of milliseconds. */
function sending(n: number, limits = defaultLimits) {
  const settled: number[] = []
  const account = new Account(1, emptyStanding(), true, limits)
  for (let seq = 1; seq <= n; seq++) {
    account.next()
    account.stored(seq, seq)
    account.sent(seq, seq, seq, () => settled.push(seq))
  }
  return { account, settled }
}

describe('one message', () => {
  it('is confirmed once the witness saw it, and then settled', () => {
    const { account, settled } = sending(1)
    account.acknowledged(1, 10)
    expect(account.counts()).toMatchObject({ produced: 1, stored: 1, sent: 1, acknowledged: 1, confirmed: 0, waiting: 1 })
    expect(account.seen(1, 20, false)).toBe('confirmed')
    expect(account.counts()).toMatchObject({ confirmed: 1, waiting: 0, late: 0, doubled: 0 })
    expect(settled).toEqual([1])
  })

  it('is late when it took longer than the limit', () => {
    const { account } = sending(1)
    expect(account.seen(1, 1 + defaultLimits.lateMs + 1, false)).toBe('late')
    expect(account.counts()).toMatchObject({ confirmed: 1, late: 1 })
  })

  it('is doubled when seen again, but not when the broker only repeats it to the witness', () => {
    const { account } = sending(1)
    account.seen(1, 5, false)
    expect(account.seen(1, 6, true)).toBe('repeat')
    expect(account.counts().doubled).toBe(0)
    expect(account.seen(1, 7, false)).toBe('doubled')
    expect(account.seen(1, 8, false)).toBe('doubled')
    expect(account.counts().doubled).toBe(1)
  })

  it('that was never made is foreign', () => {
    expect(sending(1).account.seen(2, 5, false)).toBe('foreign')
  })

  it('is missing when acknowledged and not seen, never while the witness is away', () => {
    const { account } = sending(1)
    account.acknowledged(1, 10)
    const later = 10 + defaultLimits.lateMs + 1
    account.judge(later, null)
    expect(account.counts().missing).toBe(0)
    account.judge(later, { upSince: later - 5, blindBefore: 0 })
    expect(account.counts().missing).toBe(0)
    account.judge(later, up)
    expect(account.counts()).toMatchObject({ missing: 1, waiting: 0 })
    expect(account.seen(1, later + 1, false)).toBe('late')
    expect(account.counts()).toMatchObject({ missing: 0, confirmed: 1, late: 1 })
  })

  it('is not missing before it is acknowledged, however long that takes', () => {
    const { account } = sending(1)
    account.judge(1e9, up)
    expect(account.counts()).toMatchObject({ missing: 0, waiting: 1 })
  })

  it('ends as unknown when it went out before the witness began to listen', () => {
    const { account, settled } = sending(1)
    account.acknowledged(1, 10)
    account.judge(20 + defaultLimits.lateMs + 1, { upSince: 20, blindBefore: 20 })
    expect(account.counts()).toMatchObject({ unknown: 1, missing: 0, waiting: 0 })
    expect(settled).toEqual([1])
  })

  it('is given up after the longer limit, and its slice mended when it comes after all', () => {
    const { account, settled } = sending(1)
    account.acknowledged(1, 10)
    account.judge(10 + defaultLimits.giveUpMs + 1, up)
    expect(settled).toEqual([1])
    expect(account.counts().missing).toBe(1)
    account.take()
    expect(account.seen(1, 1e9, false)).toBe('late')
    expect(account.counts()).toMatchObject({ missing: 0, confirmed: 1, late: 1 })
    expect(account.take().afterAll).toEqual([1])
  })

  it('without a witness is settled by its acknowledgement', () => {
    const settled: number[] = []
    const account = new Account(1, emptyStanding(), false)
    account.next()
    account.stored(1, 1)
    account.sent(1, 1, 1, () => settled.push(1))
    account.acknowledged(1, 5)
    expect(settled).toEqual([1])
    expect(account.counts()).toMatchObject({ acknowledged: 1, waiting: 0, confirmed: 0 })
  })

  it('pushed out of the outbox counts as dropped, in its slice too', () => {
    const { account } = sending(1)
    account.dropped(1, 1)
    expect(account.counts()).toMatchObject({ dropped: 1, waiting: 0 })
    expect(account.take().slices[0]).toMatchObject({ start: 0, produced: 1, dropped: 1 })
  })

  it('refused by the destination is settled and not missing', () => {
    const { account, settled } = sending(1)
    account.refused(1)
    account.judge(1e9, up)
    expect(account.counts()).toMatchObject({ rejected: 1, missing: 0, waiting: 0 })
    expect(settled).toEqual([1])
  })
})

it('keeps only so many messages open', () => {
  const { account, settled } = sending(12, { ...defaultLimits, openMax: 10 })
  expect(account.openCount).toBe(10)
  expect(settled).toEqual([1, 2])
  expect(account.counts().unknown).toBe(2)
})

// ---- against a model with one row a message

type Step =
  | { kind: 'make' }
  | { kind: 'ack' | 'see' | 'refuse' | 'drop'; pick: number }
  | { kind: 'repeat'; pick: number }
  | { kind: 'wait'; ms: number }
  | { kind: 'keep' }

const step: fc.Arbitrary<Step> = fc.oneof(
  { weight: 4, arbitrary: fc.constant<Step>({ kind: 'make' }) },
  { weight: 6, arbitrary: fc.record({ kind: fc.constantFrom<'ack' | 'see'>('ack', 'see'), pick: fc.nat(40) }) },
  { weight: 1, arbitrary: fc.record({ kind: fc.constantFrom<'refuse' | 'drop'>('refuse', 'drop'), pick: fc.nat(40) }) },
  { weight: 1, arbitrary: fc.record({ kind: fc.constant<'repeat'>('repeat'), pick: fc.nat(40) }) },
  { weight: 2, arbitrary: fc.record({ kind: fc.constant<'wait'>('wait'), ms: fc.nat(20_000) }) },
  { weight: 1, arbitrary: fc.constant<Step>({ kind: 'keep' }) },
)

interface Row {
  at: number
  acked: number | null
  seen: number | null
  twice: boolean
  end: 'rejected' | 'dropped' | null
}

it('agrees with a row for every message, whatever happens in whatever order, written out and read back at any moment', () => {
  fc.assert(
    fc.property(fc.array(step, { maxLength: 120 }), (steps) => {
      let account = new Account(1)
      const rows = new Map<number, Row>()
      const slices = new Map<number, Record<string, number>>()
      let now = 1000
      const collect = () => {
        const change = account.take()
        for (const s of change.slices) {
          const sum = slices.get(s.start) ?? { produced: 0, confirmed: 0, late: 0, dropped: 0, rejected: 0, missing: 0 }
          for (const k of ['produced', 'confirmed', 'late', 'dropped', 'rejected'] as const) sum[k]! += s[k]
          sum.missing = s.missing
          slices.set(s.start, sum)
        }
        return change
      }
      for (const s of steps) {
        if (s.kind === 'wait') now += s.ms
        else if (s.kind === 'make') {
          const seq = account.next()
          account.stored(seq, now)
          account.sent(seq, now, now, () => undefined)
          rows.set(seq, { at: now, acked: null, seen: null, twice: false, end: null })
        } else if (s.kind === 'keep') {
          // The engine dies after a write: what is open comes back from the outbox.
          const change = collect()
          const sets = Object.fromEntries(standingSets.map((k) => [k, RangeSet.parse(change.sets[k])])) as Omit<Standing, 'storedThrough'>
          account = new Account(1, { ...sets, storedThrough: change.storedThrough })
          for (const [seq, r] of rows) {
            if (r.seen !== null || r.end !== null) continue
            account.sent(seq, r.at, r.at, () => undefined)
            if (r.acked !== null) account.acknowledged(seq, r.acked)
          }
        } else {
          const seq = [...rows.keys()][s.pick % Math.max(1, rows.size)]
          const r = seq === undefined ? undefined : rows.get(seq)
          if (seq === undefined || !r) continue
          if (s.kind === 'ack' && r.end === null) {
            account.acknowledged(seq, now)
            r.acked ??= now
          } else if (s.kind === 'see' && r.end === null) {
            const was = r.seen !== null
            expect(account.seen(seq, now, false)).toBe(was ? 'doubled' : now - r.at > defaultLimits.lateMs ? 'late' : 'confirmed')
            if (was) r.twice = true
            else r.seen = now
          } else if (s.kind === 'repeat' && r.seen !== null) expect(account.seen(seq, now, true)).toBe('repeat')
          else if (s.kind === 'refuse' && r.seen === null && r.end === null && r.acked === null) {
            account.refused(seq)
            r.end = 'rejected'
          } else if (s.kind === 'drop' && r.seen === null && r.end === null && r.acked === null) {
            account.dropped(seq, r.at)
            r.end = 'dropped'
          }
        }
      }
      account.judge(now, up)
      const all = [...rows.values()]
      const count = (f: (r: Row) => boolean) => all.filter(f).length
      const missing = (r: Row) => r.seen === null && r.end === null && r.acked !== null && now - r.acked > defaultLimits.lateMs
      const late = (r: Row) => r.seen !== null && r.seen - r.at > defaultLimits.lateMs
      expect(account.counts()).toMatchObject({
        produced: all.length,
        stored: all.length,
        confirmed: count((r) => r.seen !== null),
        late: count(late),
        doubled: count((r) => r.twice),
        missing: count(missing),
        dropped: count((r) => r.end === 'dropped'),
        rejected: count((r) => r.end === 'rejected'),
        waiting: count((r) => r.seen === null && r.end === null && !missing(r)),
      })
      collect()
      for (const [start, sum] of slices) {
        const mine = all.filter((r) => Math.floor(r.at / SLICE_MS) * SLICE_MS === start)
        expect(sum).toMatchObject({
          produced: mine.length,
          confirmed: mine.filter((r) => r.seen !== null).length,
          late: mine.filter(late).length,
          missing: mine.filter(missing).length,
          dropped: mine.filter((r) => r.end === 'dropped').length,
        })
      }
    }),
    { numRuns: 400 },
  )
})
