import { describe, expect, it } from 'vitest'
import type { Member } from '~/contract/equipment'
import { faultsOf, fresh, inputOf, keyFrom, moved, typed, untyped, written } from './typed-class'

const member: Member = {
  id: 'a1',
  key: 'fuelFlow',
  label: 'Fuel flow',
  description: '',
  required: true,
  many: false,
  classId: null,
  dataType: 'number',
  unit: 'm3/h',
  range: { low: -1.5, high: 40 },
  allowed: null,
  calculation: null,
}

describe('a member as it is typed', () => {
  it('comes back as it was', () => {
    expect(untyped(typed(member))).toEqual(member)
    const states: Member = { ...member, dataType: 'text', range: null, allowed: ['idle', 'drying'] }
    expect(untyped(typed(states))).toEqual(states)
  })

  it('reads a decimal comma in ranges, and between semicolons in allowed numbers', () => {
    expect(untyped({ ...typed(member), low: '-1,5', high: '40,25' }).range).toEqual({ low: -1.5, high: 40.25 })
    expect(untyped({ ...typed(member), allowedText: '1,5; 2,5' }).allowed).toEqual([1.5, 2.5])
    expect(untyped({ ...typed(member), allowedText: '1, 5' }).allowed).toEqual([1, 5])
  })

  it('hands on what is no number as one that the contract refuses, not as a missing range', () => {
    expect(untyped({ ...typed(member), low: 'cold' }).range).toEqual({ low: Number.NaN, high: 40 })
    expect(untyped({ ...typed(member), low: '0', high: '' }).range!.high).toBeNaN()
    expect(untyped({ ...typed(member), low: ' ', high: '' }).range).toBeNull()
  })

  it('is named in payloads by what it is called, until somebody names it', () => {
    expect(keyFrom('Fuel flow, m³/h')).toBe('fuelFlowMH')
    expect(keyFrom('Äther 2')).toBe('ther2')
    expect(untyped({ ...fresh(), label: 'Cold end' }).key).toBe('coldEnd')
    expect(untyped({ ...fresh(), label: 'Cold end', key: 'tail' }).key).toBe('tail')
  })

  it('which is a part has neither range nor allowed values', () => {
    expect(untyped({ ...typed(member), classId: 'c1', allowedText: '1, 2' })).toMatchObject({ range: null, allowed: null })
  })
})

it('a class is sent as it is written; no other class is nothing', () => {
  const cls = { id: 'c', name: 'Zone', description: 'of a kiln', extendsId: null, members: [member], version: 3, equipmentCount: 0 }
  expect(inputOf(written(cls as never))).toEqual({ name: 'Zone', description: 'of a kiln', extendsId: null, members: [member] })
})

it('a refusal is shown at the member that it names, and at no other', () => {
  const fields = {
    name: 'is taken',
    'members.1.range': 'low is above high',
    'members.1.range.low': 'is no number',
    'members.11.key': 'is taken',
    'members.1.keyed': 'x',
  }
  expect(faultsOf(fields, 1)).toEqual(['low is above high', 'is no number'])
  expect(faultsOf(fields, 11)).toEqual(['is taken'])
  expect(faultsOf(fields, 0)).toEqual([])
})

it('a member goes a place up or down, and stays at an end', () => {
  expect(moved(['a', 'b', 'c'], 0, 1)).toEqual(['b', 'a', 'c'])
  expect(moved(['a', 'b', 'c'], 2, -1)).toEqual(['a', 'c', 'b'])
  expect(moved(['a', 'b', 'c'], 0, -1)).toEqual(['a', 'b', 'c'])
  expect(moved(['a', 'b', 'c'], 2, 1)).toEqual(['a', 'b', 'c'])
})
