import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import type { Reading } from '~/core/shape/shape'
import { behindValue } from './behind-value'
import { compareReplay, membersThatDiffer, type ReplayMessage } from './compare'

const reading = (member: string, value: Reading['value'], quality: Reading['quality'] = 'good'): Reading => ({
  ...{ equipment: null, member, value, quality },
  reason: '',
  time: null,
})
const message = (whose: string, at: number, value = 1): ReplayMessage => ({
  whose,
  topic: `t/${whose}`,
  at,
  octets: 10,
  readings: [reading('a', value)],
})

describe('what was sent against what would have been', () => {
  it('pairs messages of the same as near in time as they lie', () => {
    const found = compareReplay(
      [message('x', 1000), message('x', 5000), message('y', 1000)],
      [message('x', 1400), message('x', 9000), message('y', 1000, 2)],
    )
    expect(found).toMatchObject({ same: 1, changed: 1, held: 1, added: 1 })
    expect(found.differences.map((d) => [d.kind, d.at])).toEqual([
      ['changed', 1000],
      ['held', 5000],
      ['added', 9000],
    ])
  })

  it('pairs what was produced at once before what only lies near', () => {
    const at = [1000, 1020, 1040, 1060]
    const sent = at.map((t, n) => message('x', t, n))
    expect(compareReplay(sent, [message('x', 1040, 2), message('x', 1060, 3)])).toMatchObject({ same: 2, changed: 0, held: 2, added: 0 })
  })

  it('accounts for every message of both, whatever they are', () => {
    const some = fc.array(
      fc.record({ whose: fc.constantFrom('x', 'y', 'z'), at: fc.integer({ min: 0, max: 20_000 }), value: fc.integer({ min: 0, max: 2 }) }),
      {
        maxLength: 40,
      },
    )
    const sorted = (list: { whose: string; at: number; value: number }[]) =>
      list.sort((a, b) => a.at - b.at).map((m) => message(m.whose, m.at, m.value))
    fc.assert(
      fc.property(some, some, (a, b) => {
        const [sent, edited] = [sorted(a), sorted(b)]
        const { same, changed, held, added } = compareReplay(sent, edited)
        expect(same + changed + held).toBe(sent.length)
        expect(same + changed + added).toBe(edited.length)
        expect(compareReplay(sent, sent)).toMatchObject({ same: sent.length, differences: [] })
      }),
    )
  })

  it('tells members that differ in value or quality, that came and that went', () => {
    expect(
      membersThatDiffer([reading('a', 1), reading('b', 2), reading('c', 3)], [reading('a', 1), reading('b', 2, 'bad'), reading('d', 'x')]),
    ).toEqual([
      { member: 'b', sent: '2', edited: '2 (bad)' },
      { member: 'c', sent: '3', edited: null },
      { member: 'd', sent: null, edited: 'x' },
    ])
  })
})

describe('what a tag held', () => {
  const tag = (factor: number, offset: number) => ({ kind: 'tag' as const, handle: 7, width: 0, factor, offset })
  it('is reckoned back through what is linear', () => {
    expect(behindValue(tag(1, 0), 'text')).toEqual({ handle: 7, value: 'text' })
    expect(behindValue(tag(2, 10), 30)).toEqual({ handle: 7, value: 10 })
    expect(behindValue({ kind: 'as', input: tag(2, 0), inputType: 'number', factor: 10, offset: 5 }, 105)).toEqual({ handle: 7, value: 5 })
    expect(behindValue(tag(2, 10), null)).toEqual({ handle: 7, value: null })
  })
  it('is not guessed where it cannot be known', () => {
    expect(behindValue(tag(0, 3), 3)).toBe(null)
    expect(behindValue(tag(2, 0), 'text')).toBe(null)
    expect(behindValue({ kind: 'as', input: tag(1, 0), inputType: 'text', factor: 1, offset: 0 }, 5)).toBe(null)
    expect(behindValue({ kind: 'constant', value: 5 }, 5)).toBe(null)
    expect(behindValue({ kind: 'smooth', input: tag(1, 0), inputType: 'number', seconds: 3 }, 5)).toBe(null)
  })
})
