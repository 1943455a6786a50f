import { describe, expect, it } from 'vitest'
import { HttpSettings } from '~/contract/destinations/http'
import { flatJsonSettings, ShapeSettings } from '~/contract/shape'
import { moved } from '../kinds'
import { resolveTemplate } from '../topic-template'
import { httpAddress as http } from './http'
import { mqttAddress as mqtt } from './mqtt'

const settings = (part: object = {}) =>
  HttpSettings.parse({
    ...{ url: 'https://receiver.varnmoor.example:8443/api', authorityId: null, credentialId: null, witnessCredentialId: null },
    ...{ retryMs: 1000, witness: false, outboxMb: 1, ...part },
  })

describe('a path', () => {
  it('has names as levels that mean nothing else in an address', () => {
    const of = {
      lineage: [{ name: 'Öfen 1/2 ?&#%', level: 'enterprise' as const, alias: '', facts: {}, externalIds: {} }],
      className: 'Kiln',
      member: 'a b',
    }
    expect(resolveTemplate('{enterprise}/x', of, 'as-is', http.levels).resolved).toBe('%C3%96fen%201-2%20%3F%26-%25/x')
    expect(resolveTemplate('{enterprise}/{member}', of, 'slug', http.levels).resolved).toBe('ofen-1-2/a%20b')
  })

  it.each([
    ['kiln/{unit}', ''],
    ['kiln/{unit}?zone={name}', ''],
    ['a b', 'A space may not stand'],
    ['a#b', '# may not stand'],
    ['https://elsewhere/', 'Only the path'],
    ['//elsewhere/x', 'Only the path'],
    ['../up', 'No level may be'],
    ['a/./b', 'No level may be'],
    ['{nothing}', 'nothing'],
  ])('%j', (template, words) => {
    const said = http
      .placeProblems(template)
      .map((p) => p.message)
      .join()
    if (words === '') expect(said).toBe('')
    else expect(said).toContain(words)
  })

  it('is held against what servers take', () => {
    const said = (places: string[]) => http.placeFindings(places).map((f) => f.message)
    expect(said(['a/b', 'c?x=1'])).toEqual([])
    expect(said(['a/../b'])).toEqual([expect.stringContaining('No path: a/../b')])
    expect(said(['x'.repeat(2001)])).toEqual([expect.stringContaining('Longer than 2000')])
  })
})

it('has headers that can be carried, and none that Embrik says itself', () => {
  const said = (name: string) =>
    http.beyond({ ...http.fresh, headers: [{ name, value: 'x' }] }, flatJsonSettings, settings()).map((f) => `${f.severity}: ${f.message}`)
  expect(said('x-line')).toEqual([])
  expect(said('a b')).toEqual(['stops: No name of a header there: a b'])
  expect(said('Authorization')).toEqual(['stops: Said by Embrik itself: Authorization'])
})

it('stands beside others in one request only as plain JSON', () => {
  const said = (shape: object, batch: string) => http.beyond(http.fresh, ShapeSettings.parse(shape), settings({ batch })).length
  expect(said({ kind: 'flat-json' }, 'array')).toBe(0)
  expect(said({ kind: 'cbor' }, 'one')).toBe(0)
  expect(said({ kind: 'cbor' }, 'array')).toBe(1)
  expect(said({ kind: 'flat-json', compression: 'gzip' }, 'lines')).toBe(1)
})

it('takes from another kind what has a meaning there', () => {
  const { address, lost } = moved({ ...mqtt.fresh, topic: '{site}/{unit|lower}', headers: [{ name: 'a', value: 'b' }], retain: true }, 'http')
  expect(address).toMatchObject({ kind: 'http', topic: '{site}/{unit|lower}', method: 'POST', headers: [{ name: 'a', value: 'b' }] })
  expect(lost).toEqual(['retain'])
})

it('says everywhere a secret goes', () => {
  expect(http.reached(settings())).toEqual(['https://receiver.varnmoor.example:8443'])
  const id = '01a208ce-85ce-7000-ab1f-2ce1c1e2c52f'
  const all = settings({
    ...{ loginBy: 'oauth', credentialId: id, tokenUrl: 'https://login.varnmoor.example/token' },
    ...{ witness: true, readUrl: 'http://reader.varnmoor.example/kept?after={cursor}' },
  })
  expect(http.reached(all)).toEqual([
    'https://receiver.varnmoor.example:8443',
    'https://login.varnmoor.example:443',
    'http://reader.varnmoor.example:80',
  ])
})

it.each([
  ['url', { url: 'ftp://x/' }],
  ['url', { url: 'https://user:secret@x/' }],
  ['url', { url: 'https://x/?a=1' }],
  ['credentialId', { loginBy: 'basic' }],
  ['loginBy', { url: 'http://x/', loginBy: 'certificate', credentialId: '01a208ce-85ce-7000-ab1f-2ce1c1e2c52f' }],
  ['readUrl', { witness: true }],
  ['readUrl', { witness: true, readUrl: 'https://x/kept' }],
  ['readId', { witness: true, readUrl: 'https://x/{cursor}', readId: '' }],
  ['readItems', { readItems: 'items' }],
])('settings are refused by the field that is wrong: %s', (path, part) => {
  const base = { url: 'https://x/', authorityId: null, credentialId: null, witnessCredentialId: null, retryMs: 1000, witness: false, outboxMb: 1 }
  const { error } = HttpSettings.safeParse({ ...base, ...part })
  expect(error?.issues.map((i) => i.path.join('.'))).toContain(path)
})
