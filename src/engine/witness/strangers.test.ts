import { expect, it } from 'vitest'
import type { FarSighting } from '../destinations/far-end'
import { Strangers } from './strangers'
import type { TopicIndex } from './topics'

const copy = (digest: number): FarSighting => ({
  ...{ id: null, topic: 'a', digest, at: 0, mono: 0, repeated: false, held: false, comesAgain: false, token: null },
})

/** One account that knows the digests of `known`, and has sent all that it stored once `sent` is true. */
function scene() {
  const state = { known: new Set<number>(), sent: false }
  const account = {
    standing: { storedThrough: 5 },
    wasSent: () => state.sent,
    find: (_topic: string, digest: number) => (state.known.has(digest) ? digest : null),
  }
  const ours: number[] = []
  const nobodys: number[] = []
  const strangers = new Strangers({ accounts: () => [account] } as unknown as TopicIndex, {
    ours: (_account, seq) => ours.push(seq),
    nobodys: (s) => nobodys.push(s.digest!),
  })
  return { state, strangers, ours, nobodys }
}

it('an unknown payload waits while something has not gone out, then is ours or nobody\u2019s', () => {
  const { state, strangers, ours, nobodys } = scene()
  for (const digest of [1, 2, 3]) strangers.add(copy(digest))
  expect([ours, nobodys]).toEqual([[], []])
  state.known.add(1)
  strangers.settle(0)
  expect([ours, nobodys]).toEqual([[1], []])
  state.sent = true
  state.known.add(3)
  strangers.settle(0)
  expect([ours, nobodys]).toEqual([[1, 3], [2]])
})

it('a flood of strangers is counted, and does not fill memory', () => {
  const { state, strangers, ours, nobodys } = scene()
  for (let n = 0; n < 150_000; n++) strangers.add(copy(n))
  expect(nobodys).toHaveLength(50_000)
  state.known.add(7)
  state.sent = true
  strangers.settle(0)
  expect([ours, nobodys.length]).toEqual([[7], 149_999])
  // And all that comes then is looked at again.
  strangers.add(copy(7))
  expect(ours).toEqual([7, 7])
})
