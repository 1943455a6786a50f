import fc from 'fast-check'
import { expect, it } from 'vitest'
import { digest } from './digest'

it('is a whole number that fits 53 bits, and the same for the same octets wherever they lie', () => {
  fc.assert(
    fc.property(fc.uint8Array({ maxLength: 300 }), fc.nat(7), (bytes, offset) => {
      const d = digest(bytes)
      expect(Number.isSafeInteger(d) && d >= 0).toBe(true)
      const elsewhere = new Uint8Array(bytes.length + offset)
      elsewhere.set(bytes, offset)
      expect(digest(elsewhere.subarray(offset))).toBe(d)
    }),
  )
})

it('changes with every single octet, and with the length', () => {
  fc.assert(
    fc.property(fc.uint8Array({ minLength: 1, maxLength: 300 }), fc.nat(), fc.integer({ min: 1, max: 255 }), (bytes, where, by) => {
      const changed = bytes.slice()
      changed[where % bytes.length]! ^= by
      expect(digest(changed)).not.toBe(digest(bytes))
      expect(digest(bytes.subarray(0, -1))).not.toBe(digest(bytes))
    }),
  )
})

it('does not collide among a million payloads that differ in a number only', () => {
  const seen = new Set<number>()
  const encoder = new TextEncoder()
  for (let n = 0; n < 1_000_000; n++) seen.add(digest(encoder.encode(`{"at":"2026-03-04T14:07:12.481Z","n":${n}}`)))
  expect(seen.size).toBe(1_000_000)
})
