import { expect, it } from 'vitest'
import type { Item } from '../outbox/segment-state'
import { Suspicion } from './suspicion'

/** Only what is looked at: the place in the outbox and the stream. */
function item(ordinal: number, topic: string): Item {
  return { segment: { ordinal }, index: 0, envelope: { delivery: 1, assurance: 'acknowledged', topic } } as unknown as Item
}

it('tries each message alone after two connections without any answer, until all of them were tried', () => {
  const s = new Suspicion((e) => e.assurance)
  s.ended(0, 0, 0)
  s.ended(5, 0, 5)
  expect(s.careful).toBe(false)
  s.ended(5, 0, 5)
  expect(s.careful).toBe(true)
  s.answered(item(1, 'kiln/1'))
  expect(s.careful).toBe(true)
  s.answered(item(5, 'kiln/1'))
  expect(s.careful).toBe(false)
})

it('three losses that took very different times are no proof, three alike are', () => {
  const s = new Suspicion((e) => e.assurance)
  const one = item(1, 'kiln/1')
  expect([105, 343, 385].map((took) => s.strike(one, 0, took))).toEqual([false, false, false])
  // The last one begins anew: two more like it convict.
  expect([350, 360].map((took) => s.strike(one, 0, took))).toEqual([false, true])
})

it('with the witness cut off at the same moment the way there is the likelier cause: it takes three times as many', () => {
  const s = new Suspicion((e) => e.assurance)
  const one = item(1, 'kiln/1')
  const struck = Array.from({ length: 9 }, () => s.strike(one, 0, 100, true))
  expect(struck).toEqual([...Array.from({ length: 8 }, () => false), true])
  // Of a topic that has gone aside before, one loss alone is enough, three together.
  const next = item(2, 'kiln/1')
  expect([1, 2, 3].map(() => s.strike(next, 0, 100, true))).toEqual([false, false, true])
})

it('says why it became wary, whatever link is lost later', () => {
  const s = new Suspicion((e) => e.assurance)
  s.ended(5, 0, 5, true)
  s.ended(5, 0, 5, true)
  expect([s.wary, s.careful, s.silent]).toEqual([true, false, true])
  s.ended(2, 2, 5, false)
  s.ended(0, 0, 5, false)
  expect([s.wary, s.careful, s.silent]).toEqual([true, false, true])
})

it('after a silence begins with one message, lets twice as many go from round to round, and accuses none', () => {
  const s = new Suspicion((e) => e.assurance)
  expect(s.most).toBe(Number.POSITIVE_INFINITY)
  for (let i = 0; i < 2; i++) s.ended(500, 0, 500, true)
  expect([s.most, s.careful]).toEqual([1, false])
  let [next, rounds] = [1, 0]
  while (s.wary) {
    const window = s.most
    for (let i = 0; i < window && s.wary; i++) s.answered(item(next++, 'kiln/1'))
    rounds++
    if (s.wary) expect(s.most).toBe(window * 2)
  }
  expect([next - 1, rounds]).toEqual([500, 9])
  // A silence in between begins anew, and a link that is lost has each tried alone.
  for (let i = 0; i < 2; i++) s.ended(500, 0, 1000, true)
  s.answered(item(501, 'kiln/1'))
  for (let i = 0; i < 2; i++) s.ended(2, 0, 1000, true)
  expect(s.most).toBe(1)
  for (let i = 0; i < 2; i++) s.ended(2, 0, 1000, false)
  expect([s.most, s.careful]).toEqual([1, true])
})

it('suspects a topic that was under way at three lost links and never answered, not the ones far behind it', () => {
  const s = new Suspicion((e) => e.assurance)
  const all = ['1', '2', '3', '4'].map((n) => item(Number(n), `kiln/${n}`))
  s.lostWith(all)
  s.lostWith(all)
  s.answered(all[1]!)
  s.lostWith(all)
  expect(all.map((i) => s.suspects(i))).toEqual([true, false, false, false])
})

it('needs one lost link for a further topic of a publication of which three topics went aside and nothing was ever taken', () => {
  const s = new Suspicion((e) => e.assurance)
  for (const topic of ['kiln/1', 'kiln/2', 'kiln/3']) for (const _ of [1, 2, 3]) s.strike(item(1, topic), 0, 5)
  // Never untried: it may be a topic that is taken.
  expect([s.barred(item(9, 'kiln/4'), 10), s.suspects(item(9, 'kiln/4'))]).toEqual([false, true])
  expect(s.strike(item(9, 'kiln/4'), 10, 5)).toBe(true)
  expect(s.barred(item(10, 'kiln/4'), 20)).toBe(true)
  s.answered(item(11, 'kiln/5'))
  expect(s.suspects(item(12, 'kiln/6'))).toBe(false)
  expect(s.barred(item(13, 'kiln/4'), 30)).toBe(true)
})

it('bars a topic of which messages are only sent when three of its messages were lost with the link', () => {
  const s = new Suspicion((e) => e.assurance)
  const zero = (n: number) => ({ ...item(n, 'kiln/1'), envelope: { delivery: 1, assurance: 'sent', topic: 'kiln/1' } }) as unknown as Item
  expect([s.strike(zero(1), 0, 5), s.strike(zero(2), 1, 5), s.strike(zero(3), 2, 5)]).toEqual([false, false, true])
  expect(s.barred(zero(4), 10)).toBe(true)
})

it('makes a message the cause at the third loss, not when it was answered in between', () => {
  const s = new Suspicion((e) => e.assurance)
  const one = item(1, 'kiln/1')
  expect([s.strike(one, 0, 5), s.strike(one, 1, 5)]).toEqual([false, false])
  s.answered(one)
  expect([s.strike(one, 2, 5), s.strike(one, 3, 5), s.strike(one, 4, 5)]).toEqual([false, false, true])
})

it('bars a topic of which three went aside, tries it again after a minute, and leaves its neighbour alone', () => {
  const s = new Suspicion((e) => e.assurance)
  for (const _ of [1, 2, 3]) s.strike(item(1, 'kiln/1'), 0, 5)
  expect(s.suspects(item(2, 'kiln/1'))).toBe(true)
  expect(s.barred(item(2, 'kiln/1'), 0)).toBe(false)
  expect(s.strike(item(2, 'kiln/1'), 10, 5)).toBe(true)
  expect(s.strike(item(3, 'kiln/1'), 20, 5)).toBe(true)
  expect(s.barred(item(4, 'kiln/1'), 30)).toBe(true)
  expect(s.barred(item(4, 'kiln/2'), 30)).toBe(false)
  expect(s.barred(item(4, 'kiln/1'), 60_020)).toBe(false)
  s.answered(item(4, 'kiln/1'))
  expect(s.suspects(item(5, 'kiln/1'))).toBe(false)
})

it('does not take a link that is cut again and again for the fault of a message, however slow the answers are', () => {
  const s = new Suspicion((e) => e.assurance)
  const one = item(1, 'kiln/1')
  s.ended(5, 0, 5)
  s.ended(5, 0, 5)
  // It held 0.75 s idle and was lost 3.5 s later: it is to hold 7 s before that tells anything.
  expect(s.holdMs).toBe(750)
  expect(s.tells(750, 3500)).toBe(false)
  expect(s.holdMs).toBe(7000)
  s.lostIdle()
  expect(s.careful).toBe(false)
  s.ended(5, 0, 5)
  s.ended(5, 0, 5)
  // Lost right after the message each time, at a rhythm: from one time to the next it must hold longer.
  expect(s.tells(750, 10)).toBe(true)
  expect([s.strike(one, 0, 5), s.holdMs, s.strike(one, 1, 5), s.holdMs]).toEqual([false, 1500, false, 3000])
  s.lostIdle()
  expect([s.strike(one, 2, 5), s.strike(one, 3, 5)]).toEqual([false, false])
})
