import { expect, it } from 'vitest'
import { Passage } from './passage'

it('tells who waits when all that had come in is through, and whether all of it was kept', async () => {
  const passage = new Passage()
  expect(await passage.all()).toBe(true)
  passage.enter(3)
  const first = passage.all()
  passage.enter(2)
  const second = passage.all()
  passage.leave(3)
  expect(await first).toBe(true)
  let told = false
  void second.then(() => (told = true))
  await Promise.resolve()
  expect(told).toBe(false)
  passage.leave(2, true)
  expect(await second).toBe(false)
  passage.enter(1)
  const third = passage.all()
  passage.end()
  expect(await third).toBe(false)
})
