import { expect, it } from 'vitest'
import { checkedText } from './Steps'

it('what a check speaks of is another only when somebody changed something', () => {
  const stored = { host: 'kiln', port: 502, user: null, ca: undefined, tls: false }
  expect(checkedText({ tls: false, port: '502', host: 'kiln', user: '', ca: '' })).toBe(checkedText(stored))
  expect(checkedText({ ...stored, port: 503 })).not.toBe(checkedText(stored))
  expect(checkedText({ ...stored, tls: true })).not.toBe(checkedText(stored))
})
