import { describe, expect, it } from 'vitest'
import { TableSettings } from '~/contract/destinations/table'
import { flatJsonSettings, ShapeSettings } from '~/contract/shape'
import { moved } from '../kinds'
import { resolveTemplate } from '../topic-template'
import { mqttAddress as mqtt } from './mqtt'
import { tableAddress as table, tableRead } from './table'

const id = '01a208ce-85ce-7000-ab1f-2ce1c1e2c52f'
const settings = (part: object = {}) =>
  TableSettings.parse({
    ...{ host: 'db.varnmoor.example', port: 5432, database: 'works', tls: false, authorityId: null, credentialId: id, witnessCredentialId: null },
    ...{ retryMs: 1000, witness: true, outboxMb: 1, ...part },
  })
const stops = (part: object, shape: object, to: object = {}) =>
  table.beyond({ ...table.fresh, ...part }, ShapeSettings.parse(shape), settings(to)).map((f) => f.message)

describe('a table', () => {
  it('has names as they are under the rule, without dots in them', () => {
    const of = {
      lineage: [{ name: 'Lower Pit 1.2', level: 'enterprise' as const, alias: '', facts: {}, externalIds: {} }],
      className: 'Kiln zone',
      member: 'm',
    }
    expect(resolveTemplate('{enterprise}.{class}', of, 'underscores', table.levels).resolved).toBe('Lower_Pit_1_2.Kiln_zone')
    expect(resolveTemplate('{enterprise}', of, 'slug', table.levels).resolved).toBe('lower-pit-1-2')
  })

  it.each([
    ['{class}', ''],
    ['works.{class}', ''],
    ['a"b', '" may not stand'],
    ['{class}_{value.n}', 'values and times are columns'],
    ['{class}_{time.year}', 'values and times are columns'],
    ['{nothing}', 'nothing'],
  ])('%j', (template, words) => {
    const said = table
      .placeProblems(template)
      .map((p) => p.message)
      .join()
    if (words === '') expect(said).toBe('')
    else expect(said).toContain(words)
  })

  it.each(['a.b.c', '', 'a.', '.a', 'a by b', 'x'.repeat(64)])('%j cannot be one', (place) => expect(table.placeFindings([place])).toHaveLength(1))
  it.each(['kiln', 'works.kiln', 'Öfen 1'])('%j can be one', (place) => expect(table.placeFindings([place])).toEqual([]))

  it('is read with the keys by which its rows are replaced', () => {
    expect(table.reads(['b', 'a', 'a', ''], [], table.fresh)).toEqual(['a', 'b'])
    expect(table.reads(['a'], [], { ...table.fresh, keys: ' unit ,at' })).toEqual(['a by unit, at'])
    expect(tableRead('a by unit, at')).toEqual({ table: 'a', keys: ['unit', 'at'] })
    expect(tableRead('a')).toEqual({ table: 'a', keys: [] })
    expect(table.overlap('a', 'a by unit')).toBe(true)
    expect(table.overlap('a', 'ab')).toBe(false)
  })

  it('takes JSON objects, and says what it cannot do', () => {
    expect(stops({}, flatJsonSettings)).toEqual([])
    expect(stops({}, { kind: 'rows', form: 'json' })).toEqual([])
    expect(stops({}, { kind: 'rows', form: 'csv' })).toEqual([expect.stringContaining('no plain JSON objects')])
    expect(stops({}, { kind: 'rows', form: 'json' }, { idColumn: '' })).toEqual([expect.stringContaining('several rows')])
    expect(stops({}, { ...flatJsonSettings, compression: 'gzip' })).toHaveLength(1)
    expect(stops({}, { kind: 'value' })).toHaveLength(1)
    expect(stops({ keys: 'unit, embrik_id' }, flatJsonSettings)).toEqual([expect.stringContaining('filled by Embrik')])
    expect(stops({ keys: 'unit' }, flatJsonSettings, { idColumn: '' })).toEqual([expect.stringContaining('only be known again by an id')])
  })

  it('keeps what has a meaning there when a publication moves, and says what falls away', () => {
    const from = { ...mqtt.fresh, topic: 'works/{class}', headers: [{ name: 'a', value: 'b' }] }
    const { address, lost } = moved(from, 'table')
    expect(address).toMatchObject({ kind: 'table', topic: 'works.{class}', keys: '' })
    expect(lost).toContain('headers')
    expect(moved({ ...table.fresh, keys: 'unit' }, 'mqtt').lost).toEqual(['keys of rows'])
  })
})
