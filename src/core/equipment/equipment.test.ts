import { describe, expect, it } from 'vitest'
import { branchOf, byName, lineage, mayHangUnder, pathText } from './hierarchy'
import { matchMembers, rankTags } from './matching'

const node = (id: string, parentId: string | null, level: 'enterprise' | 'site' | 'area' | 'work centre' | 'work unit' = 'area') => ({
  id,
  name: id.toUpperCase(),
  parentId,
  level,
})

describe('the hierarchy', () => {
  const byId = new Map([node('a', null), node('b', 'a'), node('c', 'b'), node('x', 'y'), node('y', 'x')].map((n) => [n.id, n]))

  it('gives the way from the top', () => {
    expect(pathText(byId, 'c')).toBe('A / B / C')
    expect(lineage(byId, 'nothing')).toEqual([])
  })

  it('comes to an end in a loop', () => {
    expect(lineage(byId, 'x').length).toBe(2)
    expect(branchOf([...byId.values()], 'x')).toEqual(new Set(['x', 'y']))
  })

  it('finds everything below', () => {
    expect(branchOf([...byId.values()], 'a')).toEqual(new Set(['a', 'b', 'c']))
  })

  it.each([
    ['enterprise', null, true],
    ['site', null, false],
    ['work unit', 'area', true],
    ['area', 'area', false],
    ['site', 'work centre', false],
  ] as const)('a %s under %s: %s', (child, parent, may) => expect(mayHangUnder(child, parent)).toBe(may))

  it('puts Zone 2 before Zone 10', () => {
    expect(['Zone 10', 'zone 2', 'Zone 1'].sort(byName)).toEqual(['Zone 1', 'zone 2', 'Zone 10'])
  })
})

describe('binding by name', () => {
  const member = (key: string, label: string) => ({ id: key, key, label })
  const members = [member('temperature', 'Temperature'), member('gasFlow', 'Gas flow')]
  const tags = ['Zone 1/temperature', 'Zone 12/temperature', 'Zone 1/gas flow', 'Zone 12/gasFlow', 'Kiln/Zone 2/gas_flow'].map((name) => ({
    id: name,
    name,
  }))

  it('takes the tag whose parts say equipment and member, and no other', () => {
    expect(Object.fromEntries(matchMembers('Zone 1', members, tags))).toEqual({ temperature: 'Zone 1/temperature', gasFlow: 'Zone 1/gas flow' })
    expect(Object.fromEntries(matchMembers('Zone 12', members, tags))).toEqual({ temperature: 'Zone 12/temperature', gasFlow: 'Zone 12/gasFlow' })
    expect(Object.fromEntries(matchMembers('zone-2', members, tags))).toEqual({ gasFlow: 'Kiln/Zone 2/gas_flow' })
  })

  it('binds nothing by a guess', () => {
    const twice = [...tags, { id: 'other', name: 'Old/Zone 1/temperature' }]
    expect(matchMembers('Zone 1', members, twice).has('temperature')).toBe(false)
    expect(matchMembers('Zone 3', members, tags).size).toBe(0)
  })

  it('ranks whole words before parts of words', () => {
    expect(rankTags('zone 1 temp', tags)[0]?.name).toBe('Zone 1/temperature')
    expect(rankTags('nothing', tags)).toEqual([])
  })
})
