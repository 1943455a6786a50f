import { expect, it } from 'vitest'
import { Listening } from './listen'

it('large payloads are counted and shown by their beginning, and not looked into', () => {
  const l = new Listening()
  const large = Buffer.from(`{"a":[${'1,'.repeat(3_000_000)}1]}`)
  for (let i = 0; i < 50; i++) l.message(`big/${i}`, large, false)
  l.message('small', Buffer.from('{"a":1}'), false)
  const { topics, messages } = l.tell(false)
  expect(messages).toBe(51)
  expect(topics.find((t) => t.topic === 'big/7')).toMatchObject({ bytes: large.length, format: 'bytes', leaves: [] })
  expect(topics.find((t) => t.topic === 'big/7')!.sample).toMatch(/^too large to be looked into; begins with \{"a":\[1,1/)
  expect(topics.find((t) => t.topic === 'small')).toMatchObject({ format: 'json', leaves: [{ value: '1' }] })
})
