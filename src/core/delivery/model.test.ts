import fc from 'fast-check'
import { expect, it } from 'vitest'
import type { Verdict } from '~/contract/live'
import { Account, defaultLimits, type WitnessView } from './account'
import { SLICE_MS } from './account-changes'
import { emptyStanding, verdicts } from './verdict'
import { brickWaiting, layBricks } from './wall'
import { WrittenAccount } from './written'

// The account against a model with one row a message, which remembers everything and is asked at the end.

const limits = { ...defaultLimits, lateMs: 30_000, giveUpMs: 120_000 }
const up: WitnessView = { connectedAt: 0, clearAt: 1e15, seenAt: 0, seenAnyAt: 0, coveredSince: () => Number.NEGATIVE_INFINITY }
const topics = ['a', 'b', 'c']

interface Row {
  seq: number
  topic: string
  /** By the monotonic clock, by the wall clock, and the turn of that. */
  madeAt: number
  wallAt: number
  turn: number
  /** As this run knows it. */
  ackedAt: number | null
  sent: boolean
  copies: { at: number; altered: boolean; disordered: boolean }[]
  /** Of one that went out and was pushed out before anybody answered nobody can say whether it arrived. */
  end: 'rejected' | 'unknown' | null
  missing: boolean
  /** Its payload can't be compared any more: given up, or arrived in an earlier run. */
  payloadForgotten: boolean
  givenUp: boolean
  /** Whether a later one of its topic had come when it was given up: what comes later can't be known. */
  passedThen: boolean
}

function verdictOf(r: Row): Verdict | 'waiting' {
  const [first] = r.copies
  if (!first) return r.end ?? (r.missing ? 'missing' : 'waiting')
  if (r.copies.some((c) => c.altered)) return 'altered'
  if (r.copies.length > 1) return 'doubled'
  if (first.disordered) return 'disordered'
  return r.givenUp || first.at - r.madeAt > limits.lateMs ? 'late' : 'confirmed'
}

type Step =
  | { kind: 'make'; topic: string }
  | { kind: 'ack' | 'refuse' | 'drop'; pick: number }
  | { kind: 'see'; pick: number; altered: boolean }
  | { kind: 'wait'; ms: number }
  | { kind: 'set-clock'; by: number }
  | { kind: 'judge' }
  | { kind: 'foreign' }
  | { kind: 'write' }
  | { kind: 'die' }
  | { kind: 'resend' }

const pick = fc.nat(60)
const step: fc.Arbitrary<Step> = fc.oneof(
  { weight: 6, arbitrary: fc.record({ kind: fc.constant('make' as const), topic: fc.constantFrom(...topics) }) },
  { weight: 5, arbitrary: fc.record({ kind: fc.constant('ack' as const), pick }) },
  { weight: 6, arbitrary: fc.record({ kind: fc.constant('see' as const), pick, altered: fc.nat(4).map((n) => n === 0) }) },
  { weight: 1, arbitrary: fc.record({ kind: fc.constantFrom('refuse' as const, 'drop' as const), pick }) },
  { weight: 3, arbitrary: fc.record({ kind: fc.constant('wait' as const), ms: fc.nat(25_000) }) },
  { weight: 1, arbitrary: fc.record({ kind: fc.constant('set-clock' as const), by: fc.integer({ min: -400_000, max: 400_000 }) }) },
  { weight: 2, arbitrary: fc.constantFrom<Step>({ kind: 'judge' }, { kind: 'foreign' }, { kind: 'write' }) },
  { weight: 1, arbitrary: fc.constantFrom<Step>({ kind: 'die' }, { kind: 'resend' }) },
)

const makes = (n: number): Step[] => Array.from({ length: n }, () => ({ kind: 'make', topic: 'a' }))
const givenUpThenPassed: Step[] = [
  ...makes(4),
  { kind: 'ack', pick: 3 },
  ...Array.from({ length: 6 }, (): Step => ({ kind: 'wait', ms: 21_000 })),
  { kind: 'judge' },
  { kind: 'judge' },
  { kind: 'see', pick: 3, altered: true },
  { kind: 'see', pick: 0, altered: false },
]

it('agrees with a row for every message, whatever happens in whatever order, and whenever the engine dies after a write', () => {
  fc.assert(
    fc.property(fc.array(step, { maxLength: 160, size: 'max' }), (steps) => {
      const written = new WrittenAccount()
      const rows: Row[] = []
      let account = new Account(1, emptyStanding(), true, limits)
      let now = 1_000
      /** What lies between the wall clock and the other one. */
      let ahead = 1_000_000_000
      let foreign = 0
      const passed = (r: Row) => rows.some((o) => o.seq > r.seq && o.topic === r.topic && o.copies.length > 0)
      const send = (r: Row) => {
        r.sent = true
        r.payloadForgotten = false
        const { seq, topic, turn, madeAt, wallAt } = r
        account.sent(
          { seq, topic, digest: seq, assurance: 'acknowledged', deviceAt: wallAt, producedAt: wallAt, turn, madeMono: madeAt },
          now,
          () => undefined,
        )
      }
      const resend = () => {
        for (const r of rows) {
          if (r.sent || r.end !== null) continue
          send(r)
        }
      }
      for (const s of steps) {
        if (s.kind === 'wait') now += s.ms
        else if (s.kind === 'set-clock') ahead += s.by
        else if (s.kind === 'make') {
          resend()
          const wallAt = now + ahead
          const { seq, turn } = account.next(wallAt)
          account.stored(seq, wallAt, turn)
          const r: Row = {
            seq,
            topic: s.topic,
            madeAt: now,
            wallAt,
            turn,
            ackedAt: null,
            sent: true,
            copies: [],
            end: null,
            missing: false,
            payloadForgotten: false,
            givenUp: false,
            passedThen: false,
          }
          rows.push(r)
          send(r)
        } else if (s.kind === 'judge') {
          account.judge(now, up)
          for (const r of rows) {
            if (r.copies.length > 0 || r.end !== null || r.ackedAt === null || r.givenUp) continue
            if (now - r.ackedAt > limits.lateMs) r.missing = true
            if (now - r.ackedAt > limits.giveUpMs) {
              r.givenUp = true
              r.passedThen = passed(r)
              r.payloadForgotten = true
            }
          }
        } else if (s.kind === 'foreign') {
          account.foreign(now + ahead)
          foreign++
        } else if (s.kind === 'write') written.write(account.take())
        else if (s.kind === 'resend') resend()
        else if (s.kind === 'die') {
          // What is seen and not counted yet is not acknowledged to the broker, which repeats it: as if nothing had been seen.
          if (account.earlyCount > 0) continue
          written.write(account.take())
          account = new Account(1, written.standing(), true, limits)
          const answered = (r: Row) => r.ackedAt !== null || r.end !== null
          const last = Math.max(0, ...rows.filter(answered).map((r) => r.seq))
          for (const r of rows) {
            if (r.copies.length > 0) r.payloadForgotten = true
            r.sent = answered(r)
            if (r.end !== null || r.givenUp || (r.copies.length > 0 && r.sent)) continue
            // Still in the outbox: acknowledged, or sent before another that was; open again.
            if (r.sent || r.seq < last) send(r)
            if (r.ackedAt === null) continue
            account.acknowledged(r.seq, now)
            r.ackedAt = now
          }
        } else {
          const r = rows[s.pick % Math.max(1, rows.length)]
          if (!r) continue
          if (s.kind === 'ack' && r.end === null && r.sent) {
            account.acknowledged(r.seq, now)
            r.ackedAt ??= now
          } else if (s.kind === 'see' && r.end === null) {
            // What is to be sent again waits for that, and is compared then.
            const comparable = !r.payloadForgotten || !r.sent
            account.seen({ seq: r.seq, topic: r.topic, digest: s.altered ? -1 : r.seq, at: now + ahead, mono: now, counted: () => undefined })
            const disordered = r.givenUp ? r.passedThen : passed(r)
            r.copies.push({ at: now, altered: s.altered && comparable, disordered })
          } else if ((s.kind === 'refuse' || s.kind === 'drop') && r.copies.length === 0 && r.end === null && r.ackedAt === null && r.sent) {
            if (s.kind === 'refuse') account.refused(r.seq, r.wallAt, r.turn)
            else account.dropped(r.seq, r.wallAt, r.turn)
            r.end = s.kind === 'refuse' ? 'rejected' : 'unknown'
          }
        }
      }
      resend()
      written.write(account.take())
      for (const r of rows) expect([r.seq, account.verdict(r.seq)]).toEqual([r.seq, verdictOf(r)])
      const count = (of: readonly Row[], v: Verdict | 'waiting') => of.filter((r) => verdictOf(r) === v).length
      expect(account.counts()).toMatchObject({
        produced: rows.length,
        stored: rows.length,
        arrived: rows.filter((r) => r.copies.length > 0).length,
        waiting: count(rows, 'waiting'),
        foreign,
        ...Object.fromEntries(verdicts.map((v) => [v, count(rows, v)])),
      })
      expect(written.standing()).toEqual(account.standing)
      for (const sliceMs of [SLICE_MS, 6 * SLICE_MS]) {
        const bricks = layBricks(written.slices.values(), sliceMs)
        expect(bricks.reduce((n, b) => n + b.foreign, 0)).toBe(foreign)
        for (const b of bricks) {
          const mine = rows.filter((r) => Math.floor(r.wallAt / sliceMs) * sliceMs === b.start)
          expect(b).toMatchObject({ produced: mine.length, ...Object.fromEntries(verdicts.map((v) => [v, count(mine, v)])) })
          expect(brickWaiting(b)).toBe(count(mine, 'waiting'))
        }
      }
    }),
    {
      numRuns: 500,
      // A message that was given up arrived, and then one that had gone out before it.
      examples: [[givenUpThenPassed]],
    },
  )
})
