import { expect, test } from 'vitest'
import { decodeHops, HopTimes } from './hops'

const STORED = 1_790_000_000_123

test('each hop has its time, and the first sending, first sighting and last answer count', () => {
  const times = new HopTimes(3)
  times.sent(0, 0)
  times.sent(0, 500)
  times.answered(0, 40)
  times.answered(0, 540)
  times.seen(0, 55)
  times.seen(0, 900)
  times.sent(2, 86_400_000)
  expect(decodeHops(times.encode(STORED), 3)).toEqual([
    { sentAt: STORED, answeredAt: STORED + 540, seenAt: STORED + 55, sendings: 2 },
    { sentAt: null, answeredAt: null, seenAt: null, sendings: 0 },
    { sentAt: STORED + 86_400_000, answeredAt: null, seenAt: null, sendings: 1 },
  ])
  expect([0, 1, 2].map((n) => times.at(n, STORED))).toEqual(decodeHops(times.encode(STORED), 3))
})

test('what lies outside is held to what there is room for', () => {
  const times = new HopTimes(1)
  for (let i = 0; i < 1000; i++) times.sent(0, -5)
  times.answered(0, 1e15)
  expect(decodeHops(times.encode(STORED), 1)).toEqual([{ sentAt: STORED, answeredAt: STORED + 0xffff_fffe, seenAt: null, sendings: 255 }])
})

test('few octets a message that goes as messages go', () => {
  const times = new HopTimes(1000)
  for (let i = 0; i < 1000; i++) {
    times.sent(i, 2)
    times.answered(i, 9)
    times.seen(i, 30)
  }
  expect(times.encode(STORED).length).toBeLessThan(4020)
})

test('what is cut, longer, of another version or another count says nothing', () => {
  const bytes = new HopTimes(2).encode(STORED)
  expect(decodeHops(bytes, 2)).toHaveLength(2)
  for (let n = 0; n < bytes.length; n++) expect(decodeHops(bytes.slice(0, n), 2)).toBeNull()
  expect(decodeHops(bytes, 1)).toBeNull()
  expect(decodeHops(bytes, 3)).toBeNull()
  expect(decodeHops(Uint8Array.of(2, ...bytes.slice(1)), 2)).toBeNull()
  expect(decodeHops(Uint8Array.of(1, ...Array<number>(40).fill(255)), 2)).toBeNull()
})
