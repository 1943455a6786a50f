import { expect, it } from 'vitest'
import { actWords, differences } from './audit-words'

it('acts read as words', () => expect(actWords('changeSource')).toBe('change source'))

it('of a change what differs is told, however deep, and nothing that only counts', () => {
  const before = { id: '1', name: 'Kiln', version: 3, settings: { rateMs: 500, mode: 'None' } }
  expect(differences({ before, after: { ...before, version: 4, settings: { rateMs: 100, mode: 'None' } } })).toEqual(['settings.rateMs: 500 → 100'])
  expect(differences({ before, after: before })).toEqual([])
  // What an answer leaves out has not gone.
  expect(differences({ before, after: { name: 'Kiln' } })).toEqual([])
  expect(differences({ before: { role: 'viewer' }, after: { role: 'engineer', password: 'changed' } })).toEqual([
    'role: viewer → engineer',
    'password changed',
  ])
})

it('of what is new its own values, of what is gone nothing', () => {
  expect(differences({ before: null, after: { id: '1', name: 'Script', role: 'viewer', settings: { a: 1 } } })).toEqual([
    'name: Script',
    'role: viewer',
  ])
  expect(differences({ before: { name: 'x' }, after: null })).toEqual([])
  expect(differences({ before: null, after: 12.5 })).toEqual(['12.5'])
})
