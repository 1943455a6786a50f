import { describe, expect, it } from 'vitest'
import type { Tag } from '~/contract/tag'
import { Status } from '~/core/value/quality'
import type { Clock } from './clock/clock'
import { LiveTable } from './live/table'
import { TagTroubles } from './tag-troubles'

/** A plant with one source, a clock that the test holds, and what was told. */
function plant(names: string[]) {
  const at = { ms: 0 }
  const clock = { mono: () => at.ms, wall: () => 1_000_000 + at.ms } as Clock
  const table = new LiveTable()
  const tags = names.map((name, i) => ({ id: `t${i}`, handle: i, name, sourceId: 's' }) as Tag)
  const told: string[] = []
  const up = { name: 'Dryers' as string | null }
  const troubles = new TagTroubles({
    clock,
    table,
    tags: () => tags,
    upSource: () => up.name,
    event: (severity, subject, message) => told.push(`${severity} ${subject}: ${message}`),
  })
  const set = (handles: number[], status: number, note?: string) =>
    table.apply({
      handles,
      values: handles.map(() => 1),
      statuses: handles.map(() => status),
      times: handles.map(() => 0),
      ...(note && { notes: new Map(handles.map((h) => [h, { at: 0, text: note }])) }),
    })
  set(
    tags.map((t) => t.handle),
    Status.good,
  )
  const later = (ms: number) => {
    for (const end = at.ms + ms; at.ms < end; at.ms += 2000) troubles.look()
  }
  return { set, later, told, troubles, up }
}
const unit5 = ['Dryer 5/alarm', 'Dryer 5/damper', 'Dryer 6/alarm']

describe('tags in trouble', () => {
  it('are told once, together, with the device’s own words, when it lasts; and once when it is over', () => {
    const p = plant(unit5)
    p.set([0, 1], Status.timeout, 'unit 5: no answer within 1 s')
    p.later(8000)
    expect(p.told).toEqual([])
    expect(p.troubles.now()).toEqual([])
    p.later(120_000)
    expect(p.told).toEqual(['warning Dryer 5: 2 tags timed out (bad): unit 5: no answer within 1 s'])
    expect(p.troubles.now()).toEqual([
      {
        severity: 'bad',
        where: 'tag',
        subjectId: null,
        subject: 'Dryer 5',
        since: 1_000_000,
        cause: '2 tags timed out (bad): unit 5: no answer within 1 s',
        hint: '',
        tags: { sourceId: 's', folder: 'Dryer 5', kind: 'bad' },
      },
    ])
    expect(p.troubles.ofSource('s')).toEqual({ count: 2, of: 3, reason: '2 tags timed out (bad): unit 5: no answer within 1 s' })
    // It is gone, and did not come and go: nothing is wrong now.
    p.set([0, 1], Status.good)
    p.later(4000)
    expect(p.troubles.now()).toEqual([])
    p.later(130_000)
    expect(p.told.slice(1)).toEqual(['good Dryers: no tag is timed out any more; there were 2'])
    expect([p.troubles.now(), p.troubles.ofSource('s')]).toEqual([[], null])
  })

  it('one that flickers is one episode', () => {
    const p = plant(unit5)
    for (let i = 0; i < 20; i++) {
      p.set([0], Status.timeout)
      p.later(6000)
      p.set([0], Status.good)
      p.later(6000)
    }
    expect(p.told.length).toBe(1)
    expect(p.troubles.now()[0]!.cause).toBe('timed out (bad); it comes and goes, 50 % of the time')
  })

  it('a moment that does not come again is not told', () => {
    const p = plant(unit5)
    p.set([0], Status.timeout)
    p.later(4000)
    p.set([0], Status.good)
    p.later(300_000)
    expect([p.told, p.troubles.now()]).toEqual([[], []])
  })

  it('are not told beside a source that is down: that is told already', () => {
    const p = plant(unit5)
    p.up.name = null
    p.set([0, 1, 2], Status.noCommunication)
    p.later(60_000)
    expect([p.told, p.troubles.now(), p.troubles.ofSource('s')]).toEqual([[], [], null])
  })

  it('a value that was chosen to stand for another is no trouble; one beyond its range is', () => {
    const p = plant(unit5)
    p.set([0], Status.substitute)
    p.set([1], Status.initial)
    p.set([2], Status.engineeringUnitsExceeded)
    p.later(20_000)
    expect(p.troubles.now()).toMatchObject([{ severity: 'uncertain', subjectId: 't2', subject: 'Dryer 6/alarm', tags: { kind: 'range' } }])
  })

  it('many in many folders are counted, and some named', () => {
    const p = plant(Array.from({ length: 400 }, (_, i) => `Zone ${i}/temperature`))
    p.set(
      Array.from({ length: 300 }, (_, i) => i),
      Status.nodeUnknown,
    )
    p.later(20_000)
    expect(p.troubles.now()[0]!.subject).toBe('300 of 400 tags: Zone 0/temperature, Zone 1/temperature, Zone 2/temperature and 297 more')
    const few = plant([...unit5, 'Press/force'])
    few.set([0, 1, 3], Status.nodeUnknown)
    few.later(20_000)
    expect(few.troubles.now()[0]!.subject).toBe('3 of 4 tags: Dryer 5 (2), Press/force')
  })
})
