import { describe, expect, it } from 'vitest'
import type { ViewQuery } from '~/core/tag/view'
import { addressOf, everything, queryOf } from './tag-address'

const paramsOf = (q: ViewQuery) => new URLSearchParams(Object.entries(addressOf(q)).flatMap(([k, v]) => (v === null ? [] : [[k, v]])))

describe('the address of a view of tags', () => {
  it('is nothing where everything is shown', () => {
    expect(paramsOf(everything).toString()).toBe('')
    expect(queryOf(new URLSearchParams())).toEqual(everything)
  })

  it.each<Partial<ViewQuery>>([
    { words: 'kiln & "zone 3" = ü' },
    { folder: '' },
    { folder: 'kiln/zone-1' },
    { sourceId: 'abc', kind: 'bad' },
    { filters: { name: '>5', value: '> 20 & < 30' } },
    { sort: { column: 'name', desc: true } },
    { sort: { column: 'value', desc: false } },
  ])('gives back what was put into it: %o', (part) => {
    const q = { ...everything, ...part }
    expect(queryOf(new URLSearchParams(paramsOf(q).toString()))).toEqual(q)
  })

  it('takes nothing that is no column and no kind', () => {
    const q = queryOf(new URLSearchParams('of.constructor=x&of.__proto__=y&sort=-toString&kind=valueOf&of.name=pump'))
    expect(q).toEqual({ ...everything, filters: { name: 'pump' } })
  })

  it('an emptied filter leaves the address', () => {
    expect(addressOf({ ...everything, filters: { name: ' ' } })['of.name']).toBeNull()
  })
})
