import { expect, it } from 'vitest'
import { shareText, verdictOfReplay } from './words'

const none = { sent: { messages: 0, octets: 0 }, same: 0, changed: 0, held: 0, added: 0 }

it('says one figure against another', () => {
  expect([shareText(59, 100), shareText(103, 100), shareText(1001, 1000), shareText(5, 5), shareText(5, 0), shareText(0, 7)]).toEqual([
    '-41 %',
    '+3 %',
    '+0.1 %',
    'the same',
    '-',
    '-100 %',
  ])
})

it('says what a replay comes to', () => {
  expect(verdictOfReplay(none)).toBe('Nothing was sent in that time, and nothing would have been.')
  expect(verdictOfReplay({ ...none, sent: { messages: 12, octets: 1 }, same: 12 })).toBe('All 12 messages would have been the same.')
  expect(verdictOfReplay({ sent: { messages: 1200, octets: 1 }, same: 700, changed: 100, held: 400, added: 3 })).toBe(
    'Of 1,200 messages 700 would have been the same, 100 would have differed, 400 would not have been sent, 3 more would have been sent.',
  )
})
