import { expect, it } from 'vitest'
import { realClock } from './real-clock'

it('calls after the time and never before it, however long the turn of the loop was in which it was asked', async () => {
  for (let i = 0; i < 20; i++)
    await new Promise<void>((done) => {
      setImmediate(() => {
        const busy = performance.now()
        while (performance.now() - busy < 25);
        const asked = realClock.mono()
        realClock.after(20, () => {
          expect(realClock.mono() - asked).toBeGreaterThanOrEqual(20)
          done()
        })
      })
    })
})

it('does not call when it was called off, and not at once for what lies beyond a timer', async () => {
  let called = 0
  realClock.after(5, () => called++)()
  const far = realClock.after(2 ** 40, () => called++)
  await new Promise((done) => setTimeout(done, 30))
  far()
  expect(called).toBe(0)
})
