import { expect, it } from 'vitest'
import { DatagramSettings, datagramPlace, placeWritten, relaysOf } from './datagram'

it.each([
  ['239.192.7.1:4840', { host: '239.192.7.1', port: 4840, group: true, version: 4 }],
  ['224.0.0.1:1', { host: '224.0.0.1', port: 1, group: true, version: 4 }],
  ['10.20.0.7:65535', { host: '10.20.0.7', port: 65_535, group: false, version: 4 }],
  ['240.0.0.1:80', { host: '240.0.0.1', port: 80, group: false, version: 4 }],
  ['[FF05:0:0::7]:4840', { host: 'ff05::7', port: 4840, group: true, version: 6 }],
  ['[::1]:4840', { host: '::1', port: 4840, group: false, version: 6 }],
  ['HMI-3.works.example:4840', { host: 'hmi-3.works.example', port: 4840, group: false, version: 'name' }],
])('%s is a place', (text, place) => {
  expect(datagramPlace(text)).toEqual(place)
  expect(datagramPlace(placeWritten(datagramPlace(text)!))).toEqual(place)
})

it.each([
  ...['', '239.192.7.1', '239.192.7.1:', '239.192.7.1:0', '239.192.7.1:65536', '239.192.7.256:1', '239.192.07.1:1', '239.192.7:1'],
  ...['[ff05::7:4840', 'ff05::7:4840', '[ff05::7::1]:1', '[kiln]:1', 'kiln state:1', 'kiln/state', 'http://kiln:80', '-kiln:80', '1.2.3.4:5:6'],
])('%s is none', (text) => expect(datagramPlace(text)).toBeNull())

it('relays are read line by line, each to a place of its own', () => {
  expect([...relaysOf(' 10.20.0.7:4840 > 239.192.7.1:4841 \n\n[::1]:1>[FF05::7]:2')!]).toEqual([
    ['10.20.0.7:4840', '239.192.7.1:4841'],
    ['[::1]:1', '[ff05::7]:2'],
  ])
  expect(relaysOf('')!.size).toBe(0)
  for (const text of ['10.20.0.7:4840', '10.20.0.7:4840 > kiln', 'a:1 > b:2 > c:3', 'a:1 > c:3\nb:2 > c:3']) expect(relaysOf(text), text).toBeNull()
})

it('settings name the field that is wrong', () => {
  const wrong = (part: object) =>
    DatagramSettings.safeParse({ retryMs: 1000, witness: true, outboxMb: 5, lateS: 10, ...part }).error?.issues.map((i) => i.path.join('.'))
  expect(wrong({})).toBeUndefined()
  expect(wrong({ mostOctets: 65_508 })).toEqual(['mostOctets'])
  expect(wrong({ hops: 0 })).toEqual(['hops'])
  expect(wrong({ relays: 'nothing' })).toEqual(['relays'])
  expect(wrong({ from: 'eth 0' })).toEqual(['from'])
  expect(wrong({ lateS: 601 })).toEqual(['lateS'])
})
