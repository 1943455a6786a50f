import { expect, it } from 'vitest'
import { MARKS, placeOfDays, whenWords } from './life'

const DAY = 86_400_000
const NOW = Date.UTC(2027, 2, 1, 12)
const at = (days: number) => new Date(NOW + days * DAY).toISOString()

it('an end is said in days, and in years when it is far', () => {
  expect([-400, -1, 0.2, 1.5, 30, 731, 3650].map((days) => whenWords(at(days), NOW))).toEqual([
    '400 days ago',
    '1 day ago',
    'today',
    'in 1 day',
    'in 30 days',
    'in 2 years',
    'in 10 years',
  ])
})

it('the time line keeps the order of days, with more room for what is near', () => {
  const places = [-1000, -30, -1, ...MARKS.map((m) => m.days), 3650, 20_000].map(placeOfDays)
  expect(places).toEqual([...places].sort((a, b) => a - b))
  expect(places[0]).toBe(0)
  expect(places.at(-1)).toBe(100)
  expect(placeOfDays(30) - placeOfDays(0)).toBeGreaterThan(placeOfDays(760) - placeOfDays(730))
})
