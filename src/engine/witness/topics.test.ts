import { describe, expect, it } from 'vitest'
import type { Account } from '~/core/delivery/account'
import { TopicIndex } from './topics'

const [one, two] = [{ delivery: 1 }, { delivery: 2 }] as unknown as [Account, Account]

describe('who writes to a topic', () => {
  it('is one account, or several, each once', () => {
    const index = new TopicIndex()
    index.add('a', one)
    index.add('a', one)
    expect(index.accounts('a')).toEqual([one])
    index.add('a', two)
    index.add('a', two)
    expect(index.accounts('a')).toEqual([one, two])
    expect(index.accounts('b')).toEqual([])
  })

  it('is remembered for so many topics, the longest known forgotten first and known again when they are sent', () => {
    const index = new TopicIndex(100)
    for (let i = 0; i < 1000; i++) index.add(`orders/${i}`, one)
    expect(index.accounts('orders/999')).toEqual([one])
    expect(index.accounts('orders/0')).toEqual([])
    index.add('orders/0', two)
    expect(index.accounts('orders/0')).toEqual([two])
    expect(Array.from({ length: 1000 }, (_, i) => index.accounts(`orders/${i}`).length).reduce((a, b) => a + b, 0)).toBeLessThanOrEqual(100)
  })
})
