import { describe, expect, it } from 'vitest'
import { Status } from '~/core/value/quality'
import { Rate } from './rate'
import { parseHandles } from './stream'
import { LiveTable } from './table'

describe('the rate', () => {
  it('is what came in the last five whole seconds', () => {
    const rate = new Rate()
    for (let s = 0; s < 10; s++) rate.add(20, 1_000_000 + s * 1000)
    expect(rate.perSecond(1_010_000)).toBe(20)
    expect(rate.perSecond(1_012_000)).toBe(12)
    expect(rate.perSecond(1_030_000)).toBe(0)
    expect(rate.total).toBe(200)
  })
})

describe('the live table', () => {
  const batch = (handle: number, value: number, status = 0, time = 5) => ({ handles: [handle], values: [value], statuses: [status], times: [time] })

  it('keeps the newest of each tag and tells whoever listens', () => {
    const table = new LiveTable()
    const heard: number[][] = []
    const stop = table.onBatch((h) => heard.push([...h]))
    table.apply(batch(7, 1), 10)
    table.apply(batch(50_000, 2), 11)
    stop()
    table.apply(batch(7, 3), 12)
    expect(heard).toEqual([[7], [50_000]])
    expect([table.value[7], table.time[7], table.seen[7], table.value[50_000]]).toEqual([3, 5, 12, 2])
    expect(table.version[7]).toBeGreaterThan(table.version[50_000]!)
  })

  it('has no value before the first one, and a marked one keeps its last', () => {
    const table = new LiveTable()
    table.ensure(3)
    expect(table.status[3]).toBe(Status.waitingForInitialData)
    table.mark([3], Status.lastUsable)
    expect(table.status[3]).toBe(Status.waitingForInitialData)
    table.apply(batch(3, 9))
    table.mark([3], Status.lastUsable)
    expect([table.value[3], table.status[3]]).toEqual([9, Status.lastUsable])
    table.forget(3)
    expect([table.value[3], table.status[3]]).toEqual([null, Status.waitingForInitialData])
  })

  it('remembers the course of a number, with gaps where it was bad', () => {
    const table = new LiveTable()
    for (const [value, status] of [
      [1, 0],
      [2, 0x80310000],
      [3, 0],
    ] as const) {
      table.apply(batch(1, value, status))
      table.sample([1])
    }
    expect(table.spark(1)).toEqual([1, null, 3])
    expect(table.spark(2)).toEqual([])
  })
})

it.each([
  ['1-3,7', [1, 2, 3, 7]],
  ['', []],
  ['x,2,-1', [2]],
  ['5-4', []],
])('the handles %j are %j', (text, handles) => expect(parseHandles(text)).toEqual(handles))

it('nobody can watch without end', () => {
  expect(parseHandles('1-999999999').length).toBe(5000)
})
