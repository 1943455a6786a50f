import { describe, expect, it } from 'vitest'
import { outboxWords } from './outbox-words'

const mb = 1_000_000

describe('words about an outbox that fills', () => {
  it('says nothing of an empty one, or of a little in it', () => {
    expect(outboxWords({ bytes: 0, cap: 500 * mb, waiting: 0, sinceMs: 1e6 })).toBeNull()
    expect(outboxWords({ bytes: mb, cap: 500 * mb, waiting: 900, sinceMs: 1e6 })).toBeNull()
  })

  it('says when it will be full, from how it filled since the link was lost', () => {
    const hour = 3_600_000
    expect(outboxWords({ bytes: 100 * mb, cap: 500 * mb, waiting: 40_000, sinceMs: hour })).toEqual({
      text: '20 % full with 40,000 messages; at this rate full in 4 h',
      fullAt: 4 * hour,
    })
    expect(outboxWords({ bytes: 400 * mb, cap: 500 * mb, waiting: 4, sinceMs: hour })?.text).toContain('full in 15 min')
    expect(outboxWords({ bytes: 50 * mb, cap: 500 * mb, waiting: 4, sinceMs: 12 * hour })?.text).toContain('full in 5 days')
  })

  it('does not guess while the destination is there, or has just gone', () => {
    expect(outboxWords({ bytes: 100 * mb, cap: 500 * mb, waiting: 4, sinceMs: null })?.fullAt).toBeNull()
    expect(outboxWords({ bytes: 100 * mb, cap: 500 * mb, waiting: 4, sinceMs: 3000 })?.fullAt).toBeNull()
  })
})
