import { describe, expect, it } from 'vitest'
import type { Address } from '~/contract/address'
import type { PlanMessage } from '~/contract/publication'
import { addressKinds, kindOf, moved } from './kinds'
import { resolveTemplate } from './topic-template'

const of = {
  lineage: [
    { name: 'Varnmoor', level: 'enterprise' as const, alias: '', facts: {}, externalIds: {} },
    { name: 'Trockner Süd 1.2', level: 'work centre' as const, alias: '', facts: {}, externalIds: {} },
  ],
  className: 'Dryer',
  member: 'zone.0.temperature',
}
const { mqtt, stream } = addressKinds

describe('an address that moves to another kind', () => {
  const over: Address = { ...mqtt.fresh, topic: '{site}/state of/{unit|lower}', topicRule: 'dashes', headers: [{ name: 'a', value: 'b' }] }

  it('keeps what has a meaning there, with levels parted as there', () => {
    expect(moved(over, 'stream')).toEqual({
      address: { ...stream.fresh, topic: '{site}.state-of.{unit|lower}', topicRule: 'dashes', headers: [{ name: 'a', value: 'b' }] },
      lost: [],
    })
  })

  it('names what falls away and was not as drafts begin', () => {
    expect(moved({ ...over, retain: true, qos: 2, expiryS: 9 }, 'stream').lost).toEqual(['expiry', 'QoS', 'retain'])
    expect(moved({ ...stream.fresh, key: '{name}' }, 'mqtt').lost).toEqual(['key'])
  })

  it('is the same where the kind is', () => expect(moved(over, 'mqtt')).toEqual({ address: over, lost: [] }))

  it('and back has its place again', () => expect(moved(moved(over, 'stream').address, 'mqtt').address.topic).toBe('{site}/state-of/{unit|lower}'))

  it.each(Object.keys(addressKinds) as Address['kind'][])('every field of %s has its word', (kind) => {
    const { words, fresh } = kindOf({ kind })
    expect(['kind', 'topic', ...Object.keys(words)].sort()).toEqual(Object.keys(fresh).sort())
  })
})

describe('a topic of a stream', () => {
  const place = (template: string, rule: 'slug' | 'as-is' | 'underscores' = 'slug') => resolveTemplate(template, of, rule, stream.levels).resolved

  it('has dots between its levels, and nothing but letters, digits, dashes and underscores in them', () => {
    expect(place('{path}')).toBe('varnmoor.trockner-sud-1-2')
    expect(place('{path}', 'underscores')).toBe('Varnmoor.Trockner_Sud_1_2')
    expect(place('{enterprise}.{member}', 'as-is')).toBe('Varnmoor.zone.0.temperature')
    for (const rule of ['slug', 'as-is', 'underscores'] as const) expect(stream.placeFindings([place('{path}.{class}', rule) as string])).toEqual([])
  })

  it.each([
    ['{enterprise}/x', '/ may not stand in a topic there'],
    ['{enterprise}.ä', 'ä may not stand in a topic there'],
    ['{enterprise}.{value.order}', 'put values and times into the key'],
    ['a.{time.year}', 'put values and times into the key'],
    ['{nothing}', '{nothing} is not known'],
  ])('%s: %s', (template, words) =>
    expect(
      stream
        .placeProblems(template)
        .map((p) => p.message)
        .join(),
    ).toContain(words),
  )

  it('is told where it is none, too long, or a twin in the figures of the cluster', () => {
    const said = (places: string[]) => stream.placeFindings(places).map((f) => `${f.severity}: ${f.message}`)
    expect(said(['a.b', 'a.c'])).toEqual([])
    expect(said(['..'])[0]).toContain('stops: No name')
    expect(said(['x'.repeat(249)])).toEqual([])
    expect(said(['x'.repeat(250)])[0]).toContain('stops: Longer than 249')
    expect(said(['a.b', 'a_b'])[0]).toContain('warns: Differ only in dot and underscore: a.b and a_b')
    expect(said(Array.from({ length: 201 }, (_, i) => `t${i}`))[0]).toContain('warns: 201 topics')
  })

  it('is read by its name, with those beside it', () => {
    expect(stream.reads(['b', 'a', 'b', ''], [], stream.fresh)).toEqual(['a', 'b'])
    expect(stream.reads(['a'], ['/metadata/1'], stream.fresh)).toEqual(['a', 'a.metadata.1'])
    expect([stream.overlap('a', 'a'), stream.overlap('a', 'a.b')]).toEqual([true, false])
  })

  it('is left behind under each key that is sent no more', () => {
    const plan = (...of: [place: string, key: string][]) => ({
      address: stream.fresh,
      messages: of.map(([place, key]) => ({ place, key }) as PlanMessage),
    })
    const before = plan(['a', '1'], ['a', '2'], ['b', '1'], ['a', ''])
    expect(stream.leftBehind(before, plan(['a', '1']))).toEqual([
      { place: 'a', key: '2' },
      { place: 'b', key: '1' },
    ])
    expect(stream.leftBehind(before, before)).toEqual([])
    expect(stream.leftBehind(before, { messages: [], address: mqtt.fresh })).toHaveLength(3)
  })

  it('parts messages by key too', () => {
    const text = (r: unknown) => String(r)
    expect(stream.apart({ place: 'a', key: '1' }, text)).not.toBe(stream.apart({ place: 'a', key: '2' }, text))
    expect(mqtt.apart({ place: 'a', key: '1' }, text)).toBe(mqtt.apart({ place: 'a', key: '2' }, text))
  })
})
