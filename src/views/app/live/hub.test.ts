import { describe, expect, it } from 'vitest'
import { Hub, type Said } from './hub'
import type { Heard } from './line'
import { streamOf, type Want } from './wants'

/** A hub over a line that the test speaks on. */
function hub() {
  const wanted: Required<Want>[] = []
  let tell: (h: Heard) => void = () => undefined
  const it = new Hub((t) => {
    tell = t
    return { want: (w) => wanted.push(w) }
  })
  const page = () => {
    const heard: Heard[] = []
    const key = {}
    return { heard, says: (what: Said, now?: number) => it.said(key, what, (h) => heard.push(h), now), values: () => valuesOf(heard) }
  }
  return { hub: it, wanted: () => wanted.at(-1)!, tell: (h: Heard) => tell(h), page }
}
const valuesOf = (heard: Heard[]) => heard.flatMap((h) => (h.name === 'values' ? h.frame.map((v) => [v[0], v[1]]) : []))
const value = (handle: number, v: number): Heard => ({ name: 'values', frame: [[handle, v, 0, 1, 1]] })

describe('one line for all pages of a browser', () => {
  it('wants what the pages want together, each thing once', () => {
    const h = hub()
    h.page().says({ want: { tags: [3, 1, 2], parts: ['ledger'], messages: ['b'] } })
    h.page().says({ want: { tags: [2, 9], sparks: true, parts: ['sources', 'ledger'], messages: ['a', 'b'] } })
    expect(decodeURIComponent(streamOf(h.wanted()))).toBe('/api/live?tags=1-3,9&parts=course,sources,ledger&messages=a,b&spark=true')
  })

  it('tells a page that opens later how the line is now, not how it was', () => {
    const h = hub()
    const states = () => {
      const late = h.page()
      late.says({ want: {} })
      return late.heard.map((x) => x.name)
    }
    h.page().says({ want: {} })
    h.tell({ name: 'hello', frame: { at: 1, version: '' } as never })
    expect(states()).toEqual(['hello'])
    h.tell({ name: 'down', frame: { message: 'The engine does not answer', hint: '' } })
    expect(states()).toEqual(['down'])
    h.tell({ name: 'lost', frame: null })
    expect(states()).toEqual(['lost'])
    h.tell({ name: 'hello', frame: { at: 2, version: '' } as never })
    expect(states()).toEqual(['hello'])
  })

  it('passes to each page what it watches, and how the line is to all', () => {
    const h = hub()
    const [a, b] = [h.page(), h.page()]
    a.says({ want: { tags: [1], parts: ['ledger'] } })
    b.says({ want: { tags: [2], messages: ['p'] } })
    h.tell({ name: 'values', frame: [value(1, 10), value(2, 20)].flatMap((v) => (v.name === 'values' ? v.frame : [])) })
    h.tell({ name: 'ledger', frame: [] })
    h.tell({ name: 'silent', frame: { sinceS: 5 } })
    h.tell({ name: 'logged out', frame: null })
    expect(a.heard.map((x) => x.name)).toEqual(['values', 'ledger', 'silent', 'logged out'])
    expect(b.heard.map((x) => x.name)).toEqual(['values', 'silent', 'logged out'])
    expect([a.values(), b.values()]).toEqual([[[1, 10]], [[2, 20]]])
  })

  it('gives a page that comes later at once what others had asked for', () => {
    const h = hub()
    h.page().says({ want: { tags: [1, 2], parts: ['sources'] } })
    h.tell({ name: 'hello', frame: { at: 1, engine: 'up' } })
    h.tell(value(1, 10))
    h.tell(value(1, 11))
    h.tell({ name: 'sources', frame: {} })
    const late = h.page()
    late.says({ want: { tags: [1], parts: ['sources'] } })
    expect(late.heard.map((x) => x.name)).toEqual(['hello', 'sources', 'values'])
    expect(late.values()).toEqual([[1, 11]])
  })

  it('does not give a value that has not been kept up: of a tag that nobody watched for a while', () => {
    const h = hub()
    const first = h.page()
    first.says({ want: { tags: [1] } })
    h.tell(value(1, 10))
    first.says({ want: {} })
    h.tell({ name: 'hello', frame: { at: 2, engine: 'up' } })
    const late = h.page()
    late.says({ want: { tags: [1] } })
    expect(late.values()).toEqual([])
  })

  it('forgets pages that say good-bye, and those that fall silent', () => {
    const h = hub()
    const [a, b] = [h.page(), h.page()]
    a.says({ want: { tags: [1] } }, 0)
    b.says({ want: { tags: [2] } }, 0)
    expect(h.wanted().tags).toEqual([1, 2])
    a.says({ bye: true }, 1000)
    expect(h.wanted().tags).toEqual([2])
    a.says({ want: { tags: [3] } }, 400_000)
    expect(h.hub.size).toBe(1)
    expect(h.wanted().tags).toEqual([3])
  })

  it('a hidden page watches nothing, and catches up when it is seen again', () => {
    const h = hub()
    const [a, b] = [h.page(), h.page()]
    a.says({ want: { tags: [1] } })
    b.says({ want: { tags: [1] } })
    b.says({ want: {} })
    h.tell(value(1, 5))
    expect(b.values()).toEqual([])
    b.says({ want: { tags: [1] } })
    expect(b.values()).toEqual([[1, 5]])
  })
})
