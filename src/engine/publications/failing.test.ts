import { expect, it } from 'vitest'
import { Failing } from './failing'

it('one that fails is told once, though others can be made in between; again when it fails for something else, or was well meanwhile', () => {
  const f = new Failing()
  expect(f.note(0, 'too long', 0)).toBe(true)
  for (let i = 1; i < 1000; i++) {
    expect(f.note(1, null, i)).toBe(false)
    expect(f.note(0, 'too long', i)).toBe(false)
  }
  expect([f.size, f.words, f.count]).toEqual([1, 'too long', 1000])
  // For the same reason as another it is no news.
  expect(f.note(2, 'too long', 20_000)).toBe(false)
  expect(f.note(2, 'no octets', 20_001)).toBe(true)
  // What comes and goes is told seldom.
  for (const n of [0, 2]) f.note(n, null, 20_002)
  expect([f.size, f.words]).toEqual([0, null])
  expect(f.note(0, 'too long', 20_003)).toBe(false)
  expect(f.note(0, null, 20_004)).toBe(false)
  expect(f.note(0, 'too long', 40_000)).toBe(true)
})
