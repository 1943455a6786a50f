import { describe, expect, it } from 'vitest'
import type { CompareFinding, ComparePair } from '~/contract/compare'
import { compareSentence, explained, figureText, findingHint, findingWords } from './words'

const pair = (part: Partial<ComparePair> = {}): ComparePair => ({
  ...{ key: 'p e temperature', tagId: 't', tag: 'Zone 1/temperature', unit: '°C', writable: false, basis: 'seen', stated: { factor: 1, offset: 0 } },
  came: {
    ...{ kind: 'member', publicationId: 'p', publication: 'Kiln', equipment: 'Zone 1', member: 'Temperature', place: 'kiln/zone-1' },
    ...{ destinationId: 'd', unit: '°C', computed: '' },
  },
  ...{ state: 'agrees', finding: null, held: 10, carried: 10, arrived: 10, off: 0, lost: 0, altered: 0, open: 0, lag: null, span: 4 },
  ...{ most: 0, rms: 0, decimals: 0, between: 0, width: 0, unexplained: 0 },
  now: { held: { value: 1, at: 1 }, came: { value: 1, at: 1 } },
  ...part,
})

describe('what is recognised is said in words', () => {
  const cases: [CompareFinding, string][] = [
    [{ kind: 'factor', factor: 10, unit: '' }, '10 times as much'],
    [{ kind: 'factor', factor: 0.001, unit: '' }, 'a part in 1000 of it'],
    [{ kind: 'factor', factor: 0.01, unit: 'bar' }, 'a part in 100 of it, as if it were in bar'],
    [{ kind: 'factor', factor: -1, unit: '' }, 'the same with the other sign'],
    [{ kind: 'offset', offset: -4 }, '4 °C less'],
    [{ kind: 'line', factor: 1.8, offset: 32 }, '1.8 times as much and 32 °C more'],
    [{ kind: 'unit', is: '°F', said: '°C' }, 'in °F, though it says °C'],
    [{ kind: 'order', type: 'float32', order: 'CDAB' }, 'the octets of a float32 taken in the order CDAB'],
    [{ kind: 'inverted' }, 'yes where it was no'],
    [{ kind: 'shift', ms: 3_600_000 }, 'times 1 h too late'],
    [{ kind: 'shift', ms: -9_000_000 }, 'times 2 h 30 min too early'],
    [{ kind: 'exchanged', with: 'other' }, 'exchanged with Zone 2/temperature'],
    [{ kind: 'other', carries: 'other' }, 'what Zone 2/temperature is'],
    [{ kind: 'deadband', size: 2, hides: 0.31 }, 'a deadband of 2 °C hides 31 % of its movement'],
    [{ kind: 'seldom', everyMs: 240_000, hides: 0.5 }, 'told about every 4 min: 50 % of its movement is not'],
    [{ kind: 'still', since: 1 }, 'stands still, though the tag moves on'],
    [{ kind: 'nothing' }, 'nothing of it arrived'],
  ]
  it.each(cases)('%o', (finding, words) => {
    expect(findingWords(finding, '°C', () => 'Zone 2/temperature')).toBe(words)
    // Whoever is told what is wrong is told what to do.
    expect(findingHint(pair({ finding })).length).toBeGreaterThan(10)
  })

  it('what is computed is said to be', () => {
    const p = pair({ finding: { kind: 'factor', factor: 10, unit: '' } })
    if (p.came.kind === 'member') p.came.computed = 'temperature * 10'
    expect(findingHint(p)).toBe('It is computed: temperature * 10')
    expect(findingHint(pair())).toBe('')
  })
})

describe('one sentence for all of them', () => {
  const many = (n: number, part: Partial<ComparePair>) => Array.from({ length: n }, () => pair(part))
  const wrong = many(1, { state: 'differs', finding: { kind: 'factor', factor: 10, unit: '' } })
  it.each([
    [[], 'There is nothing to hold beside each other'],
    [many(3, { state: 'little' }), 'None of 3 moved enough to say anything'],
    [many(3, { state: 'open' }), 'Of none of 3 anybody can say yet whether it arrived'],
    [many(3, { state: 'unsent' }), 'Nothing was sent in that time'],
    [
      [...many(2, { state: 'unsent' }), ...many(1, { state: 'little' })],
      'Nothing can be said yet; of 2 nothing was sent; 1 moved too little to say anything',
    ],
    [many(1, {}), 'It arrives as it was'],
    [[...many(4, {}), ...many(2, { state: 'little' })], 'All 4 arrive as they were; 2 moved too little to say anything'],
    [[...many(2, {}), ...many(1, { finding: { kind: 'deadband', size: 1, hides: 0.4 } })], 'All 3 arrive as they were; 1 hides a part of what moves'],
    [[...many(4, {}), ...wrong], '1 of 5 does not arrive as it was: 1 by a factor'],
    [
      [...many(2, {}), ...wrong, ...many(2, { state: 'nothing', finding: { kind: 'nothing' } }), ...many(1, { state: 'open' })],
      '3 of 6 do not arrive as they were: 1 by a factor, 2 of which nothing arrived; of 1 nobody can say yet whether they arrived',
    ],
  ])('%#', (pairs, sentence) => {
    expect(compareSentence(pairs)).toBe(sentence)
  })
})

it('what explains a distance is told part by part', () => {
  const p = pair({ stated: { factor: 0.001, offset: -2 }, most: 0.9, decimals: 0.05, between: 0.8, width: 0.5, unexplained: 0 })
  expect(explained(p)).toEqual([
    { what: 'Converted on the way, as is stated', most: '× 0.001 - 2' },
    { what: 'Decimals that are cut', most: '0.05 °C' },
    { what: 'Between two messages: deadband 0.5 °C', most: '0.8 °C' },
    { what: 'Not explained', most: 'nothing' },
  ])
  expect(explained(pair({ most: null }))).toEqual([])
  const tenfold = pair({ most: 3, unexplained: 3, state: 'differs', finding: { kind: 'factor', factor: 10, unit: '' } })
  expect(explained(tenfold)).toEqual([{ what: 'What is named above', most: '3 °C' }])
  expect(explained(pair({ most: 3, unexplained: 3 }))).toEqual([{ what: 'Not explained', most: '3 °C' }])
})

it('figures have four digits that count', () => {
  expect([0, 1 / 3, 1234.567, 12_345_678, 0.00001234, -273.15].map(figureText)).toEqual(['0', '0.3333', '1234.57', '1.23e+7', '1.23e-5', '-273.1'])
})
