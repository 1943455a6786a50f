import { expect, it } from 'vitest'
import { Coverage } from './coverage'

it('is sure of a topic from the grant of its filter on, not from the asking', () => {
  const c = new Coverage()
  expect(c.want(['works/kiln/#'])).toEqual({ fresh: ['works/kiln/#'], stale: [] })
  expect(c.coveredSince('works/kiln/1')).toBe(Number.POSITIVE_INFINITY)
  c.granted('works/kiln/#', 500)
  c.granted('works/kiln/#', 900)
  expect(c.coveredSince('works/kiln/1')).toBe(500)
  expect(c.coveredSince('works/dryer/1')).toBe(Number.POSITIVE_INFINITY)
})

it('keeps a filter that nobody asks for until nothing needs it', () => {
  const c = new Coverage()
  c.want(['a/#'])
  c.granted('a/#', 0)
  expect(c.want(['b/#'])).toEqual({ fresh: ['b/#'], stale: [] })
  expect(c.release(['a/#'])).toBe(false)
  expect(c.release([])).toBe(true)
  expect(c.due().stale).toEqual(['a/#'])
})

it('doubts what was granted within the last minute before a loss, and nothing older', () => {
  const c = new Coverage()
  c.want(['a/#', 'b/#'])
  c.granted('a/#', 0)
  c.granted('b/#', 50_000)
  c.doubtYoung(70_000)
  expect(c.due().fresh).toEqual(['b/#'])
})

it('gives the next run the same moments in its own clock', () => {
  const c = new Coverage()
  c.want(['a/#'])
  c.granted('a/#', 400)
  const next = new Coverage()
  next.restore(c.written(-10_000), -9_000)
  expect(next.coveredSince('a/x')).toBe(400 + 10_000 - 9_000)
})
