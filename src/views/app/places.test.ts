import { describe, expect, it } from 'vitest'
import { placeAt, places } from './places'
import { stations } from './stations'

describe('pages of the interface', () => {
  it('has each page of each station once, with a title of its own', () => {
    expect(new Set(places.map((p) => p.path)).size).toBe(places.length)
    expect(new Set(places.map((p) => p.title)).size).toBe(places.length)
    for (const s of stations) for (const p of s.pages) expect(placeAt(p.href)).toMatchObject({ station: s.id, page: p.label })
  })

  it('finds a page with a slash behind it, and none where there is none', () => {
    expect(placeAt('/tags/')?.title).toBe('Tags')
    expect(placeAt('/settings/audit')?.station).toBeNull()
    for (const path of ['/', '/api/session', '/login', '/tags/one', '/constructor']) expect(placeAt(path)).toBeNull()
  })
})
