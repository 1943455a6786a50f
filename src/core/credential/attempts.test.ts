import { expect, it } from 'vitest'
import { accountRule, addressRule, shutMs } from './attempts'

it('leaves a few tries free, then shuts for longer and longer, up to a limit', () => {
  for (const rule of [accountRule, addressRule]) {
    for (let n = 0; n < rule.free; n++) expect(shutMs(rule, n)).toBe(0)
    expect(shutMs(rule, rule.free)).toBe(rule.firstMs)
    expect(shutMs(rule, rule.free + 1)).toBe(Math.min(rule.mostMs, rule.firstMs * 2))
    expect(shutMs(rule, rule.free + 1000)).toBe(rule.mostMs)
  }
})

it('lets a guesser of one account try no more than some thousands of passwords a day, and its owner wait a minute at most', () => {
  expect(86_400_000 / accountRule.mostMs).toBeLessThan(1500)
  expect(accountRule.mostMs).toBeLessThanOrEqual(60_000)
})
