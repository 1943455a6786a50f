import { afterAll, beforeAll, expect, it } from 'vitest'
import { addEvents, eventLine } from '~/store/event'
import { freeze } from '~/store/freeze'
import { goLive } from '~/store/going-live'
import { scene } from './scene'

let s: Awaited<ReturnType<typeof scene>>
beforeAll(async () => {
  s = await scene({ still: true })
})
afterAll(() => s.end())

const event = (at: number, severity: 'good' | 'note' | 'warning' | 'trouble', message: string) => ({
  ...{ at, severity, message, where: 'destination' as const, subjectId: null, subject: 'Broker', code: 'test', hint: '' },
})

it('events stand in the slice in which they happened, the worst of each told, the newest first', async () => {
  const from = Date.UTC(2031, 2, 4, 14)
  await addEvents(s.t.db, [
    event(from - 1, 'trouble', 'before'),
    event(from, 'good', 'up'),
    event(from + 9_999, 'trouble', 'one'),
    ...['two', 'three', 'four'].map((message) => event(from + 5000, 'trouble', message)),
    event(from + 10_000, 'note', 'quiet'),
    event(from + 25_000, 'warning', 'soon'),
    event(from + 30_000, 'trouble', 'after'),
  ])
  expect((await eventLine(s.t.db, from, from + 30_000, 10_000)).slices).toEqual([
    { start: from, severity: 'trouble', count: 5, told: ['Broker: four', 'Broker: three', 'Broker: two'] },
    { start: from + 10_000, severity: 'note', count: 1, told: ['Broker: quiet'] },
    { start: from + 20_000, severity: 'warning', count: 1, told: ['Broker: soon'] },
  ])
  expect(await eventLine(s.t.db, from + 60_000, from + 70_000, 10_000)).toEqual({ slices: [], versions: [] })
})

it('versions stand in the slice in which they went live, with who let them', async () => {
  const from = Math.floor(Date.now() / 60_000) * 60_000
  await goLive(s.t.db, s.publicationId, 'Ines', freeze)
  const { versions } = await eventLine(s.t.db, from, from + 600_000, 600_000)
  expect(versions).toEqual([
    { start: from, publicationId: s.publicationId, number: 1, by: 'test' },
    { start: from, publicationId: s.publicationId, number: 2, by: 'Ines' },
  ])
})
