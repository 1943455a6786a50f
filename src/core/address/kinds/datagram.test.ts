import { describe, expect, it } from 'vitest'
import type { DatagramSettings } from '~/contract/destinations/datagram'
import { addressKinds, moved } from '../kinds'
import { resolveTemplate } from '../topic-template'

const { datagram, mqtt } = addressKinds
const said = (places: string[]) => datagram.placeFindings(places).map((f) => `${f.severity}: ${f.message}`)
const to = (part: Partial<DatagramSettings> = {}) => ({ witness: true, relays: '', ...part }) as DatagramSettings
const beyond = (shape: object, topic = '239.192.7.1:4840', part: Partial<DatagramSettings> = {}) =>
  datagram.beyond({ kind: 'datagram', topic }, shape as never, to(part) as never).map((f) => `${f.severity}: ${f.message}`)
const uadp = { kind: 'pubsub-uadp' }

describe('a place of datagrams', () => {
  it('takes facts as they are', () => {
    const of = { lineage: [{ name: 'Kiln 7', level: 'work unit' as const, alias: '', facts: { net: '7' }, externalIds: {} }], className: 'Kiln' }
    expect(resolveTemplate('239.192.{fact.net}.1:4840', of, 'as-is', datagram.levels).resolved).toBe('239.192.7.1:4840')
  })

  it.each([
    ['kiln/state:1', '/ may not stand in it'],
    ['239.192.0.1 :4840', 'A space may not stand in it'],
    ['239.192.{value.net}.1:4840', 'values and times cannot say where'],
    ['{nothing}:4840', '{nothing} is not known'],
  ])('%s: %s', (template, words) =>
    expect(
      datagram
        .placeProblems(template)
        .map((p) => p.message)
        .join(),
    ).toContain(words),
  )

  it('is told where it is none, of routers, of somebody else, or written otherwise', () => {
    expect(said(['239.192.7.1:4840', '[ff05::7]:4840', '10.20.0.7:4840', 'hmi-3:4840'])).toEqual([])
    expect(said(['', '239.192.7.1'])).toEqual(['stops: No group or host with a port: nothing, 239.192.7.1'])
    expect(said(['224.0.0.5:4840'])[0]).toContain('stops: Groups by which routers')
    expect(said(['[ff02::1]:4840'])[0]).toContain('stops: Groups by which routers')
    expect(said(['224.0.2.14:4840'])).toEqual([expect.stringContaining('warns: Groups that are somebody else')])
    expect(said(['[FF05::7]:4840', 'HMI-3:1'])).toEqual([
      'stops: Written in another way than it is known: [FF05::7]:4840 is [ff05::7]:4840, HMI-3:1 is hmi-3:1',
    ])
  })

  it('is read as it is; what goes before others goes there too', () => {
    expect(datagram.reads(['b:1', 'a:1', 'b:1', ''], ['/metadata'], datagram.fresh)).toEqual(['a:1', 'b:1'])
    expect(datagram.beside('a:1', '/metadata')).toBe('a:1')
    expect([datagram.overlap('a:1', 'a:1'), datagram.overlap('a:1', 'a:2')]).toEqual([true, false])
  })
})

it('shapes: UADP by the standard, others with a warning, what needs more than a payload not at all', () => {
  expect(beyond(uadp)).toEqual([])
  expect(beyond({ kind: 'flat-json', compression: 'none' })).toEqual([expect.stringContaining('warns: By the standard a datagram holds')])
  expect(beyond({ kind: 'cloudevents', mode: 'binary' })).toEqual([expect.stringContaining('stops: CloudEvents in binary mode')])
  expect(beyond({ kind: 'sparkplug-b' })).toEqual(['stops: Sparkplug B goes over MQTT only'])
})

it('a witness for one machine is warned of, unless something hands it on', () => {
  expect(beyond(uadp, '10.20.0.7:4840')).toEqual([expect.stringContaining('warns: 10.20.0.7:4840 is one machine')])
  expect(beyond(uadp, '10.20.0.7:4840', { witness: false })).toEqual([])
  expect(beyond(uadp, '10.20.0.7:4840', { relays: '10.20.0.7:4840 > 239.192.7.1:4840' })).toEqual([])
})

it('a publication that moves there begins with a place of its own, and says what falls away; and back', () => {
  expect(moved({ ...mqtt.fresh, topic: '{site}/state', retain: true }, 'datagram')).toEqual({ address: datagram.fresh, lost: ['topic', 'retain'] })
  expect(moved(mqtt.fresh, 'datagram').lost).toEqual([])
  expect(moved({ kind: 'datagram', topic: '239.192.9.9:1' }, 'mqtt')).toEqual({ address: mqtt.fresh, lost: ['group or host'] })
})

it('what it promises: sent is the last word', () => {
  expect(datagram.sentAs(datagram.fresh)).toMatchObject({ assurance: 'sent', kept: false })
  expect(datagram.lastWord).toBe('sent')
  expect(datagram.safety(datagram.fresh, uadp as never).map((f) => f.severity)).toEqual(['warns'])
})
