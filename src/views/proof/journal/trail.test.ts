import { describe, expect, it } from 'vitest'
import { trailOf, verdictMeaning, verdictWords } from './trail'

const base = { deviceAt: 1000, producedAt: 1010, storedAt: 1015, verdict: 'confirmed' as const }
const hops = { sentAt: 1016, answeredAt: 1030, seenAt: 1025, sendings: 1 }

describe('the trail of a message', () => {
  it('tells each hop and how long it took since the one before', () => {
    expect(trailOf({ ...base, hops }).map((s) => [s.name, s.took, s.note])).toEqual([
      ['Read at the device', null, ''],
      ['Produced', 10, ''],
      ['Stored in the outbox', 5, ''],
      ['Sent', 1, ''],
      ['Acknowledged', 14, ''],
      ['Seen by the witness', -5, ''],
    ])
  })

  it('passes by a hop that has no time, and says why', () => {
    const steps = trailOf({ ...base, verdict: 'missing', hops: { ...hops, seenAt: null } })
    expect(steps.at(-1)).toEqual({ name: 'Seen by the witness', at: null, took: null, note: 'never' })
    const unanswered = trailOf({ ...base, hops: { ...hops, answeredAt: null, seenAt: 1040 } })
    expect(unanswered.at(-1)?.took).toBe(24)
  })

  it('says how often it went out', () => {
    expect(trailOf({ ...base, hops: { ...hops, sendings: 3 } })[3]?.note).toBe('3 times')
    expect(trailOf({ ...base, hops: { ...hops, sendings: 255 } })[3]?.note).toBe('more than 254 times')
  })

  it('knows what was given up and rejected from what was acknowledged', () => {
    expect(trailOf({ ...base, verdict: 'rejected', hops })[4]?.name).toBe('Rejected')
    expect(trailOf({ ...base, verdict: 'dropped', hops: null })[4]).toMatchObject({ name: 'Given up', note: 'not noted' })
  })

  it('claims nothing of what nobody noted', () => {
    expect(trailOf({ ...base, hops: null }).map((s) => s.note)).toEqual(['', '', '', 'not noted', 'not noted', 'not noted'])
    expect(trailOf({ ...base, verdict: 'waiting', hops: null })[3]?.note).toBe('not yet, or not noted')
  })

  it('has a word and a meaning for every verdict', () => {
    expect(Object.keys(verdictMeaning)).toEqual(Object.keys(verdictWords))
  })
})
