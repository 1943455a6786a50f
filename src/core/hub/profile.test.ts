import fc from 'fast-check'
import { expect, it } from 'vitest'
import { HubProfile } from '~/contract/hub-profile'
import { beyondProfile, filledFor, profileProblems, propertiesText, topicWriter } from './profile'
import { shippedProfiles } from './shipped'

const of = { host: 'hub.example', port: 8883, unit: 'kiln-edge' }
const profile = (more: object) => HubProfile.parse({ name: 'x', logInBy: 'password', topic: 'a/{unit}/{place}', ...more })

it('the profiles that ship can be used, and are what a file of them is', () => {
  for (const one of shippedProfiles) {
    expect(profileProblems(one), one.name).toEqual({})
    expect(HubProfile.parse(JSON.parse(JSON.stringify(one)))).toEqual(one)
  }
})

it('topics have the unit, the place, and what is written beside the payload so that it is read as it was', () => {
  const [tarn, fell] = shippedProfiles
  expect(
    topicWriter(tarn!, of)('firing/zone-1', [
      ['embrik-id', 'a.1.2'],
      ['kind', 'a&b=c/d +#'],
    ]),
  ).toBe('tarn/kiln-edge/out/firing/zone-1!embrik-id=a.1.2&kind=a%26b%3Dc%2Fd%20%2B%23')
  expect(topicWriter(fell!, of)('vacuum', [])).toBe('fell/u/kiln-edge/e/vacuum')
  expect(filledFor('{unit}@{host}:{port}', of)).toBe('kiln-edge@hub.example:8883')
  fc.assert(
    fc.property(fc.array(fc.tuple(fc.string({ unit: 'binary', minLength: 1 }), fc.string({ unit: 'binary' })), { maxLength: 5 }), (properties) => {
      const text = propertiesText(properties)
      expect(text).not.toMatch(/[+#/\s]/)
      // As any reader of addresses takes it apart.
      expect([...new URLSearchParams(text)]).toEqual(properties.map(([n, v]) => [n.toWellFormed(), v.toWellFormed()]))
    }),
  )
})

it.each<[object, string, RegExp]>([
  [{ topic: 'a/{unit}' }, 'topic', /\{place\} must stand/],
  [{ topic: 'a/{plcae}' }, 'topic', /\{plcae\} is not known/],
  [{ topic: 'a/#/{place}' }, 'topic', /wildcard/],
  [{ properties: 'topic' }, 'topic', /\{properties\} must stand/],
  [{ topic: '{place}/{properties}' }, 'properties', /stands in the topic/],
  [{ protocol: '3.1.1' }, 'properties', /3\.1\.1 has nothing beside/],
  [{ clientId: '{place}' }, 'clientId', /\{place\} is not known/],
  [{ logInBy: 'token' }, 'logInBy', /How are tokens made/],
  [{ properties: 'none' }, 'placeHeader', /known by place and payload/],
  [{ idHeader: '' }, 'idHeader', /By what are messages known/],
  [{ downFilter: 'a/#/b' }, 'downFilter', /at the end only/],
  [{ answerTopic: 'a/{topic}' }, 'answerTopic', /To what/],
  [{ downFilter: 'a/{unit}/#' }, 'downFilter', /answer to itself/],
  [{ downFilter: 'd/#', answerTopic: 'd/a/{topic}' }, 'downFilter', /answer to itself/],
  [{ downFilter: 'a/#', answerTopic: '{place}' }, 'answerTopic', /\{place\} is not known/],
  [{ token: { form: 'hmac', signed: '{x}', token: '{signature}' } }, 'token.signed', /\{x\} is not known/],
])('%j is no use: %s', (more, field, says) => {
  expect(profileProblems(profile(more))[field]).toMatch(says)
})

it('what a hub would refuse is known before it is sent', () => {
  const p = profile({ payloadOctets: 10, qosMost: '1', oneLevel: true })
  const usual = { qos: 1, kept: false, octets: 10, place: 'vacuum' }
  expect(beyondProfile(p, usual)).toBeNull()
  expect(beyondProfile(p, { ...usual, octets: 11 })?.code).toBe('size')
  expect(beyondProfile(p, { ...usual, qos: 2 })?.code).toBe('qos')
  expect(beyondProfile(p, { ...usual, kept: true })?.code).toBe('retained')
  expect(beyondProfile(p, { ...usual, place: 'a/b' })?.code).toBe('place')
  expect(beyondProfile(profile({}), { ...usual, octets: 1e9, place: 'a/b!c' })).toBeNull()
  // What parts properties from a place would cut it in two, and take the id along.
  const [tarn, fell] = shippedProfiles
  expect(beyondProfile(tarn!, { ...usual, place: 'zone/1!' })).toMatchObject({
    code: 'place',
    message: expect.stringMatching(/^! stands in zone\/1!/),
  })
  expect(beyondProfile(tarn!, { ...usual, place: 'zone/1&a=b' })).toBeNull()
  expect(beyondProfile(fell!, { ...usual, place: 'zone!' })).toBeNull()
})
