import { expect, it } from 'vitest'
import { ItemQueues } from './item-queues'

it('keeps each one’s order, lets nobody wait for another, and goes on after a failure', async () => {
  const done: string[] = []
  const failed: string[] = []
  const queues = new ItemQueues((id, e) => failed.push(`${id}: ${(e as Error).message}`))
  let go: () => void = () => undefined
  const gate = new Promise<void>((open) => {
    go = open
  })
  void queues.add('slow', async () => {
    await gate
    done.push('slow 1')
  })
  void queues.add('slow', () => {
    throw new Error('it broke')
  })
  void queues.add('slow', () => void done.push('slow 3'))
  await queues.add('quick', () => void done.push('quick'))
  expect(done).toEqual(['quick'])
  go()
  await queues.settled()
  expect(done).toEqual(['quick', 'slow 1', 'slow 3'])
  expect(failed).toEqual(['slow: it broke'])
})
