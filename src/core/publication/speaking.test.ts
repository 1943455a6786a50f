import { expect, it } from 'vitest'
import type { PlanEquipment } from '~/contract/publication'
import { kiln, member } from '../shape/shape-samples'
import { speakingOf } from './speaking'

const fill = (handle: number) => ({ kind: 'tag' as const, handle, width: 0, factor: 1, offset: 0 })
const one = (name: string, members: Record<string, number>): PlanEquipment => ({
  ...kiln,
  name,
  members: Object.entries(members).map(([key, handle]) => member(key, 'number', { fill: fill(handle) })),
})
/** Handles up to 10 are tags, the others places in records. */
const tags = new Map(Array.from({ length: 10 }, (_, i) => [String(i), { handle: i + 1 }])) as never

function of(trigger: Parameters<typeof speakingOf>[0], equipment: PlanEquipment[]) {
  const said: string[] = []
  const say = (severity: string) => (_: string, message: string) => void said.push(`${severity}: ${message}`)
  return { handles: speakingOf(trigger, equipment, { tags }, say('stops'), say('warns')), said }
}

it('any value: all handles', () => expect(of({ kind: 'event', of: 'value' }, [one('A', { n: 1 })])).toEqual({ handles: null, said: [] }))
it('equipment that joins: none', () => expect(of({ kind: 'event', of: 'joined' }, [one('A', { n: 1 })])).toEqual({ handles: null, said: [] }))

it('values of one member; who lacks it is told of, and where all do it does not go live', () => {
  const both = [one('A', { batch: 1, n: 2 }), one('B', { n: 3 })]
  expect(of({ kind: 'event', of: 'value', member: 'batch' }, both)).toEqual({
    handles: [1],
    said: ['warns: B: no member batch that is read, so nothing is sent of it'],
  })
  expect(of({ kind: 'event', of: 'value', member: 'gone' }, both).said).toEqual([
    'stops: There is no member gone that is read, so nothing would ever be sent',
  ])
})

it('two that are filled from the same place both speak', () =>
  expect(of({ kind: 'event', of: 'record' }, [one('A', { order: 11 }), one('B', { order: 11 })])).toEqual({ handles: [11], said: [] }))

it('records: what is read and is no tag', () => {
  expect(of({ kind: 'event', of: 'record' }, [one('A', { order: 11, n: 2 }), one('B', { order: 12 })])).toEqual({ handles: [11, 12], said: [] })
  expect(of({ kind: 'event', of: 'record' }, [one('A', { n: 2 })]).said[0]).toMatch(/^stops: There is no member that a record fills/)
})
