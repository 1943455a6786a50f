import { describe, expect, it } from 'vitest'
import { differences } from './differences'

describe('what two versions differ in', () => {
  it('is nothing where they are the same', () => {
    expect(differences({ a: 1, b: { c: [1, 2] } }, { a: 1, b: { c: [1, 2] } })).toEqual([])
  })

  it('is named by its place, with both texts', () => {
    expect(
      differences({ name: 'A', shape: { kind: 'json', mode: 'x' }, ids: [1, 2] }, { name: 'B', shape: { kind: 'json' }, ids: [1, 2, 3] }),
    ).toEqual([
      { path: 'name', theirs: 'A', mine: 'B' },
      { path: 'shape.mode', theirs: 'x', mine: 'nothing' },
      { path: 'ids', theirs: '2 of them', mine: '3 of them' },
    ])
  })

  it('is cut where it is long', () => {
    expect(differences({ t: 'x'.repeat(500) }, { t: '' })[0]).toEqual({ path: 't', theirs: `${'x'.repeat(79)}…`, mine: 'nothing' })
  })
})
