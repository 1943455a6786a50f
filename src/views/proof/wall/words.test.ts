import { expect, it } from 'vitest'
import type { Fate } from '~/core/delivery/wall'
import { wallSentence } from './words'

const at = (hour: number, minute: number) => new Date(2026, 2, 4, hour, minute).getTime()
const now = at(9, 0)
const fate = (state: Fate['state'], count: number, from = at(8, 9), to = at(8, 14)): Fate => ({ state, count, from, to })

it.each<[string, number, Fate[], string]>([
  ['all is well', 1204, [], 'Nothing lost since 08:00 of 1,204 messages'],
  ['one message', 1, [], 'Nothing lost since 08:00 of 1 message'],
  ['nothing was sent', 0, [], 'Nothing was sent since 08:00'],
  ['what is on its way is no news', 10, [fate('waiting', 3), fate('unwatched', 4)], 'Nothing lost since 08:00 of 10 messages'],
  ['late', 10, [fate('late', 3)], 'Nothing lost since 08:00 of 10 messages; 3 arrived late, between 08:09 and 08:14'],
  ['lost', 10, [fate('missing', 151), fate('late', 2)], '151 did not arrive, between 08:09 and 08:14; 2 arrived late, between 08:09 and 08:14'],
  ['nobody knows', 10, [fate('unknown', 2)], 'Of 2 nobody knows whether they arrived, between 08:09 and 08:14'],
  ['one of them', 10, [fate('dropped', 1, at(8, 9), at(8, 9))], '1 was dropped, at 08:09'],
  ['days ago', 10, [fate('rejected', 2, at(8, 9) - 3 * 86_400_000)], '2 were rejected, between 03-01 08:09 and 08:14'],
])('%s', (_what, produced, fates, text) => {
  const said = wallSentence(produced, fates, at(8, 0), now)
  expect(said.text).toBe(text)
  expect(said.lost).toBe(fates.some((f) => ['missing', 'dropped', 'rejected', 'unknown'].includes(f.state)))
})
