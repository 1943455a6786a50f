import { expect, it } from 'vitest'
import { messageId, parseMessageId } from './envelope'

it('reads its own ids back', () => {
  expect(parseMessageId('7f3a9c21', messageId('7f3a9c21', 3, 10_442))).toEqual({ delivery: 3, seq: 10_442 })
})

it.each([undefined, 42, '', '7f3a9c21.3', '7f3a9c21.3.x', '7f3a9c21.3.1.1', '00000000.3.1', '7f3a9c21.-3.1', '7f3a9c21.3.1234567890123456'])(
  'takes %j for foreign',
  (id) => {
    expect(parseMessageId('7f3a9c21', id)).toBeNull()
  },
)
