import { expect, it } from 'vitest'
import type { Ending } from '~/contract/ending'
import { stopCounts, stopWords } from './ending-words'

const use = { kind: 'destination' as const, id: '01890000-0000-7000-8000-000000000001', name: 'Site broker' }
const ending = (part: Partial<Ending> = {}, publications: string[] = [], tags = 0) =>
  ({ what: 'certificate', uses: [use], stops: { publications, tags }, ...part }) as Ending

it('what stops when something ends is told with what to do', () => {
  expect(stopWords(ending({}, ['Kiln zones']))).toBe('Kiln zones waits in the outbox from then on: ask for its successor, and replace it in place')
  expect(stopWords(ending({}, ['a', 'b', 'c', 'd'], 1))).toMatch(/^a, b and 2 more wait in the outbox from then on, 1 tag is not read any more:/)
  expect(stopWords(ending())).toMatch(/^Used by Site broker, where nothing is live:/)
  expect(stopWords(ending({ uses: [] }))).toBe('Nothing here uses it: remove it, or take in its successor')
  expect(stopWords(ending({ what: 'key', uses: [] }))).toMatch(/^Whoever calls with it/)
})

it('and in short', () => {
  expect(stopCounts(ending({}, ['a', 'b'], 12))).toBe('2 publications, 12 tags')
  expect(stopCounts(ending({}, ['a'], 1))).toBe('1 publication, 1 tag')
  expect([stopCounts(ending()), stopCounts(ending({ what: 'key' }))]).toEqual(['nothing', 'its calls'])
})
