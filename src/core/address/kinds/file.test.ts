import { describe, expect, it } from 'vitest'
import { FileAddress, typesOf } from '~/contract/addresses/file'
import { FileSettings } from '~/contract/destinations/file'
import { flatJsonSettings, ShapeSettings } from '~/contract/shape'
import { moved } from '../kinds'
import { addressWriter, resolveTemplate } from '../topic-template'
import { fileAddress as file } from './file'
import { mqttAddress as mqtt } from './mqtt'

const id = '01a208ce-85ce-7000-ab1f-2ce1c1e2c52f'
const terms = { retryMs: 1000, witness: true, lateS: 120, outboxMb: 1 }
const settings = (part: object = {}) => FileSettings.parse({ store: 'folder', folder: 'lake', ...terms, ...part })
const stops = (part: object, shape: object, to: object = {}) =>
  file.beyond({ ...file.fresh, ...part }, ShapeSettings.parse(shape), settings(to)).map((f) => `${f.severity}: ${f.message}`)
const of = {
  lineage: [{ name: 'Lower Pit: 1.2', level: 'enterprise' as const, alias: '', facts: {}, externalIds: {} }],
  className: 'Kiln zone',
  member: 'm',
  members: ['batch'],
}

describe('a path of files', () => {
  it('has names as levels that no file system reads otherwise', () => {
    expect(resolveTemplate('{enterprise}/{class}', of, 'as-is', file.levels).resolved).toBe('Lower Pit- 1.2/Kiln zone')
    expect(resolveTemplate('{enterprise}', of, 'slug', file.levels).resolved).toBe('lower-pit-1.2')
  })

  it.each([
    ['..', '-'],
    ['.hidden', '-hidden'],
    ['a/b', 'a-b'],
    ['con|"x"', 'con-x'],
    ['', 'none'],
  ])('a value %j becomes the level %s', (value, level) => {
    const { resolved } = resolveTemplate('{class}/{value.batch}', of, 'slug', file.levels)
    const write = addressWriter(resolved, file.levels)
    expect(typeof write === 'string' ? write : write(() => value, 0)).toBe(`kiln-zone/${level}`)
  })

  it.each([
    ['{path}/{time.year}-{time.month}', ''],
    ['{class}/{value.batch}', ''],
    ['/{class}', 'An empty level'],
    ['{class}//x', 'An empty level'],
    ['{class}/', 'An empty level'],
    ['../{class}', 'begin with a dot'],
    ['a\\b', '\\ may not stand'],
    ['a:b', ': may not stand'],
    ['{nothing}', 'nothing'],
  ])('%j', (template, words) => {
    const said = file
      .placeProblems(template)
      .map((p) => p.message)
      .join()
    if (words === '') expect(said).toBe('')
    else expect(said).toContain(words)
  })

  it('is not too long, and leads nowhere else', () => {
    expect(file.placeFindings(['a/b', 'ä'.repeat(70)])).toEqual([])
    expect(file.placeFindings(['ä'.repeat(90)])[0]?.message).toContain('in one level')
    expect(file.placeFindings([Array(100).fill('123456789').join('/')])[0]?.message).toContain('Longer than 800 octets')
    for (const place of ['a/../b', '/a', 'a//b', 'a/.b']) expect(file.placeFindings([place])[0]?.message).toContain('No path of a file')
  })

  it('is read by the folder in which all of its files lie', () => {
    const year = { take: 'time' as const, part: 'year' as const, filters: [], rule: null }
    const reads = (...places: Parameters<typeof file.reads>[0]) => file.reads(places, [], file.fresh)
    expect(reads('a/b/zone-1', 'a/b/zone-2')).toEqual(['/a/b/'])
    expect(reads('a/b/zone-1', ['a/b/', year])).toEqual(['/a/b/'])
    expect(reads('a/b/zone-1', 'a/bc/zone-2')).toEqual(['/a/'])
    expect(reads([year, '/a'])).toEqual(['/'])
    expect(reads('')).toEqual([])
    expect(file.overlap('/a/', '/a/b/')).toBe(true)
    expect(file.overlap('/a/', '/b/')).toBe(false)
    expect(file.mayBecome(['a/', year, '.x'], 'a/2026.x')).toBe(true)
    expect(file.mayBecome(['a/', year, '.x'], 'a/2026/x')).toBe(false)
  })

  it('keeps a topic as path when a publication moves there', () => {
    const from = { ...mqtt.fresh, topic: '{site}/{unit}', qos: 2 as const, retain: true }
    expect(moved(from, 'file')).toEqual({ address: { ...file.fresh, topic: '{site}/{unit}' }, lost: ['QoS', 'retain'] })
  })
})

describe('what can stand in files', () => {
  it('of lines: JSON objects of every shape', () => {
    expect(stops({}, flatJsonSettings)).toEqual([])
    for (const kind of ['nested-json', 'pubsub-json', 'cloudevents', 'device-facts'])
      expect(stops({}, { kind, ...(kind === 'pubsub-json' && { publisherId: 'x' }) })).toEqual([])
    for (const shape of [{ kind: 'cbor' }, { kind: 'value' }, { ...flatJsonSettings, compression: 'gzip' }, { kind: 'cloudevents', mode: 'binary' }])
      expect(stops({}, shape)).toEqual([expect.stringContaining('stops: A file of lines takes JSON objects')])
  })

  it('of columns: fields', () => {
    for (const format of ['csv', 'parquet']) {
      expect(stops({}, { kind: 'rows' }, { format })).toEqual([])
      expect(stops({}, { kind: 'cloudevents' }, { format })).toEqual([expect.stringContaining('fields as columns')])
    }
  })

  it('several rows only with an id', () => {
    expect(stops({}, { kind: 'rows' }, { idColumn: '' })).toEqual([expect.stringContaining('only be known again by an id')])
    expect(stops({}, flatJsonSettings, { idColumn: '' })).toEqual([])
  })

  it('types where the format has them, and not of the id', () => {
    expect(stops({ types: 'at time' }, flatJsonSettings, { format: 'parquet' })).toEqual([])
    expect(stops({ types: 'at time' }, flatJsonSettings)).toEqual([expect.stringContaining('warns: Types of columns have no meaning')])
    expect(stops({ types: 'embrik_id text' }, flatJsonSettings, { format: 'parquet' })).toEqual([expect.stringContaining('filled by Embrik')])
  })
})

describe('types of columns', () => {
  it.each([
    ['', {}],
    ['at time, count whole', { at: 'time', count: 'whole' }],
    [' shift name text ,, on truth', { 'shift name': 'text', on: 'truth' }],
  ])('%j', (text, types) => expect(Object.fromEntries(typesOf(text)!)).toEqual(types))
  it.each(['at', 'at date', 'at time, at text', 'time'])('%j are none', (text) => {
    expect(typesOf(text)).toBeNull()
    expect(FileAddress.safeParse({ ...file.fresh, types: text }).success).toBe(false)
  })
})

describe('settings', () => {
  const wrong = (part: object) =>
    FileSettings.safeParse({ store: 'folder', folder: 'lake', ...terms, ...part }).error?.issues.map((i) => i.path.join('.')) ?? []
  it.each([
    [{}, []],
    [{ folder: '' }, ['folder']],
    [{ folder: '../etc' }, ['folder']],
    [{ folder: 'a//b' }, ['folder']],
    [{ folder: 'a/.hidden' }, ['folder']],
    [{ folder: '/lake/' }, []],
    [{ store: 'objects' }, ['url', 'bucket', 'credentialId']],
    [{ store: 'objects', url: 'https://s.example/x', bucket: 'works', credentialId: id }, ['url']],
    [{ store: 'objects', url: 'https://s.example', bucket: 'Works', credentialId: id }, ['bucket']],
    [{ store: 'objects', url: 'https://s.example:9000', bucket: 'works', credentialId: id }, []],
    [{ ageS: 120 }, ['lateS']],
    [{ ageS: 7200, lateS: 10_000 }, []],
  ])('%j', (part, fields) => expect(wrong(part)).toEqual(fields))
})
