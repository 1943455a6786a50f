import { expect, it } from 'vitest'
import type { Item } from '../outbox/segment-state'
import { Suspicion } from './suspicion'

/** Only what is looked at: the place in the outbox and the stream. */
function item(ordinal: number, topic: string): Item {
  return { segment: { ordinal }, index: 0, envelope: { delivery: 1, qos: 1, retain: false, topic } } as unknown as Item
}

it('tries each message alone after two connections without any answer, and stops with the first answer', () => {
  const s = new Suspicion()
  s.ended(0, 0)
  s.ended(5, 0)
  expect(s.careful).toBe(false)
  s.ended(5, 0)
  expect(s.careful).toBe(true)
  s.answered(item(1, 'kiln/1'))
  expect(s.careful).toBe(false)
})

it('makes a message the cause at the third loss, not when it was answered in between', () => {
  const s = new Suspicion()
  const one = item(1, 'kiln/1')
  expect([s.strike(one, 0), s.strike(one, 1)]).toEqual([false, false])
  s.answered(one)
  expect([s.strike(one, 2), s.strike(one, 3), s.strike(one, 4)]).toEqual([false, false, true])
})

it('bars a topic of which three went aside, tries it again after a minute, and leaves its neighbour alone', () => {
  const s = new Suspicion()
  for (const _ of [1, 2, 3]) s.strike(item(1, 'kiln/1'), 0)
  expect(s.suspects(item(2, 'kiln/1'))).toBe(true)
  expect(s.barred(item(2, 'kiln/1'), 0)).toBe(false)
  expect(s.strike(item(2, 'kiln/1'), 10)).toBe(true)
  expect(s.strike(item(3, 'kiln/1'), 20)).toBe(true)
  expect(s.barred(item(4, 'kiln/1'), 30)).toBe(true)
  expect(s.barred(item(4, 'kiln/2'), 30)).toBe(false)
  expect(s.barred(item(4, 'kiln/1'), 60_020)).toBe(false)
  s.answered(item(4, 'kiln/1'))
  expect(s.suspects(item(5, 'kiln/1'))).toBe(false)
})

it('does not take a link that is cut again and again for the fault of a message, however slow the answers are', () => {
  const s = new Suspicion()
  const one = item(1, 'kiln/1')
  s.ended(5, 0)
  s.ended(5, 0)
  // It held 1.5 s idle and was lost 3.5 s later: it is to hold 7 s before that tells anything.
  expect(s.holdMs).toBe(1500)
  expect(s.tells(1500, 3500)).toBe(false)
  expect(s.holdMs).toBe(7000)
  s.lostIdle()
  expect(s.careful).toBe(false)
  s.ended(5, 0)
  s.ended(5, 0)
  // Lost right after the message each time, at a rhythm: from one time to the next it must hold longer.
  expect(s.tells(1500, 10)).toBe(true)
  expect([s.strike(one, 0), s.holdMs, s.strike(one, 1), s.holdMs]).toEqual([false, 3000, false, 6000])
  s.lostIdle()
  expect([s.strike(one, 2), s.strike(one, 3)]).toEqual([false, false])
})
