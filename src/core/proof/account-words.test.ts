import { describe, expect, it } from 'vitest'
import type { Fate } from '~/contract/wrong'
import { accountSentence } from './account-words'

const fate = (part: Partial<Fate>): Fate => ({
  destinationId: 'd',
  destination: 'Site broker',
  produced: 0,
  arrived: 0,
  altered: 0,
  missing: 0,
  dropped: 0,
  rejected: 0,
  unknown: 0,
  ...part,
})
const says = (...parts: Partial<Fate>[]) => accountSentence(parts.map(fate), 'since 06:00')

describe('the sentence about a while', () => {
  it('says that all arrived only when all did', () => {
    expect(says({ produced: 1200, arrived: 1200 })).toBe('Everything that was sent since 06:00 arrived.')
    expect(says({ produced: 1200, arrived: 1199 })).toBe('All that was sent since 06:00 arrived, but for 1 message still on the way.')
    // A link that is cut since the beginning.
    expect(says({ produced: 1200 })).toBe('Of the 1,200 messages sent since 06:00 none has arrived yet.')
    expect(says({ produced: 1200, unknown: 200 })).toContain('Of the 1,000 messages sent since 06:00 none has arrived yet.')
  })

  it('names each loss with its cause and its destination', () => {
    expect(says({ produced: 1000, arrived: 946, rejected: 54, destination: 'Works cloud' })).toBe(
      'All that was sent since 06:00 arrived, but for 54 messages that Works cloud refused.',
    )
    expect(says({ produced: 10, arrived: 8, missing: 1, altered: 1 }, { produced: 5, arrived: 2, dropped: 3, destination: 'Stream' })).toBe(
      'All that was sent since 06:00 arrived, but for 1 message that Site broker acknowledged and nobody saw arrive, ' +
        '1 message that arrived at Site broker with another content and 3 messages for Stream that the full outbox gave up.',
    )
  })

  it('claims nothing of what nobody saw', () => {
    expect(says({ produced: 7, unknown: 7 })).toBe('Of the 7 messages sent since 06:00 nobody can say whether they arrived: no witness saw them.')
    expect(says({ produced: 9, arrived: 7, unknown: 2 })).toBe(
      'Everything that was sent since 06:00 and watched arrived. Of 2 messages nobody can say: the witness was away.',
    )
    expect(says()).toBe('Nothing was sent since 06:00.')
  })
})
