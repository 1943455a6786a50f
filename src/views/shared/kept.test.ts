import { describe, expect, it } from 'vitest'
import { readKept, sameFields, writeKept } from './kept'

function shelf(full = false) {
  const all = new Map<string, string>()
  return {
    all,
    getItem: (k: string) => all.get(k) ?? null,
    setItem: (k: string, text: string) => {
      if (full) throw new Error('QuotaExceededError')
      all.set(k, text)
    },
    removeItem: (k: string) => void all.delete(k),
  }
}
const like = { name: '', topic: '' }
const fits = sameFields(like)
const day = 86_400_000

describe('drafts that are not saved yet', () => {
  it('come back as they were, with the version that they began with', () => {
    const s = shelf()
    writeKept(s, 'k', { draft: { name: 'Kiln', topic: 'a/b' }, version: 3, at: 5 * day })
    expect(readKept(s, 'k', fits, 6 * day)).toEqual({ draft: { name: 'Kiln', topic: 'a/b' }, version: 3, at: 5 * day })
    writeKept(s, 'k', null)
    expect(s.all.size).toBe(0)
  })

  it('are nothing when they are old, of another program, damaged, or another thing', () => {
    const s = shelf()
    writeKept(s, 'k', { draft: like, version: null, at: 0 })
    expect(readKept(s, 'k', fits, 15 * day)).toBeNull()
    for (const text of ['{', '3', '"x"', '{"draft":{"name":"x"},"version":1,"at":0}', '{"draft":null,"at":0}', '{"draft":{"name":"","topic":""}}']) {
      s.all.set('k', text)
      expect(readKept(s, 'k', fits, day)).toBeNull()
    }
  })

  it('are lost quietly where the browser keeps nothing, and never when they are too large to be kept', () => {
    expect(() => writeKept(shelf(true), 'k', { draft: like, version: null, at: 0 })).not.toThrow()
    const s = shelf()
    writeKept(s, 'k', { draft: like, version: null, at: 0 })
    writeKept(s, 'k', { draft: { ...like, name: 'x'.repeat(600_000) }, version: null, at: 0 })
    // Rather none than an older one that looks like it.
    expect(s.all.size).toBe(0)
  })
})
