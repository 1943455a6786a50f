import { expect, it } from 'vitest'
import type { Equipment, Level } from '~/contract/equipment'
import type { EquipmentRule } from '~/contract/publication'
import { matching } from './rule'

const one = (
  id: string,
  parentId: string | null,
  level: Level,
  classId: string | null = null,
  facts: Equipment['facts'] = {},
): [string, Equipment] => [id, { id, name: id, parentId, level, classId, facts, alias: '', externalIds: {}, bindings: {}, counts: {}, version: 1 }]
const equipment = new Map([
  one('works', null, 'enterprise'),
  one('firing', 'works', 'area'),
  one('kiln', 'firing', 'work centre', 'kiln'),
  one('zone 10', 'kiln', 'work unit', 'hot zone', { fuel: 'gas', constructor: 'odd' }),
  one('zone 2', 'kiln', 'work unit', 'zone', { fuel: 'oil', year: 1999 }),
  one('drying', 'works', 'area'),
  one('chamber', 'drying', 'work unit', 'zone', { fuel: 'gas' }),
  one('bare', 'drying', 'work unit'),
])
const classes = new Map([
  ['zone', { id: 'zone', extendsId: null }],
  ['hot zone', { id: 'hot zone', extendsId: 'zone' }],
  ['kiln', { id: 'kiln', extendsId: null }],
  ['loop', { id: 'loop', extendsId: 'loop' }],
])

it.each<[EquipmentRule, string[]]>([
  [{ classId: 'zone' }, ['chamber', 'zone 2', 'zone 10']],
  [{ classId: 'hot zone' }, ['zone 10']],
  [{ underId: 'firing' }, ['kiln', 'zone 2', 'zone 10']],
  [{ classId: 'zone', underId: 'firing' }, ['zone 2', 'zone 10']],
  [{ fact: { name: 'fuel' } }, ['chamber', 'zone 2', 'zone 10']],
  [{ fact: { name: 'fuel', value: 'gas' } }, ['chamber', 'zone 10']],
  [{ fact: { name: 'year', value: '1999' } }, ['zone 2']],
  [{ fact: { name: 'constructor' } }, ['zone 10']],
  [{ fact: { name: 'toString' } }, []],
  [{ classId: 'loop' }, []],
  [{ underId: 'gone' }, []],
  [{}, ['chamber', 'kiln', 'zone 2', 'zone 10']],
])('%j is for %j', (rule, ids) => expect(matching(rule, equipment, classes)).toEqual(ids))
