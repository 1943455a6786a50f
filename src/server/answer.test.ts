import { gunzipSync } from 'node:zlib'
import { describe, expect, it } from 'vitest'
import { hasTag, jsonAnswer, takesGzip } from './answer'

const asked = (headers: Record<string, string> = {}, method = 'GET') => new Request('http://127.0.0.1/api/tags', { method, headers })
const large = { tags: Array.from({ length: 400 }, (_, i) => ({ name: `Kiln/Zone ${i}/temperature` })) }
const answer = (headers: Record<string, string>, result: unknown = large, method = 'GET') => jsonAnswer(asked(headers, method), result, new Headers())

describe('an answer', () => {
  it('is packed for those who take it, and says the same', async () => {
    const r = await answer({ 'accept-encoding': 'br, gzip' })
    expect(r.headers.get('content-encoding')).toBe('gzip')
    const packed = Buffer.from(await r.arrayBuffer())
    expect(packed.length).toBeLessThan(JSON.stringify(large).length / 5)
    expect(JSON.parse(gunzipSync(packed).toString())).toEqual(large)
    expect(r.headers.get('vary')).toBe('accept-encoding')
  })

  it('goes as it is to those who do not, and when it is small', async () => {
    for (const [headers, result] of [
      [{}, large],
      [{ 'accept-encoding': 'gzip;q=0' }, large],
      [{ 'accept-encoding': 'gzip' }, { tags: [] }],
    ] as const) {
      const r = await answer(headers, result)
      expect(r.headers.get('content-encoding')).toBeNull()
      expect(await r.json()).toEqual(result)
    }
  })

  it('that somebody has already is not sent again, packed or not', async () => {
    const tag = (await answer({})).headers.get('etag')!
    expect((await answer({ 'accept-encoding': 'gzip' })).headers.get('etag')).toBe(tag)
    const again = await answer({ 'if-none-match': `"other", ${tag}` })
    expect(again.status).toBe(304)
    expect(await again.text()).toBe('')
    const changed = await answer({ 'if-none-match': tag }, { tags: [] })
    expect(changed.status).toBe(200)
    expect(changed.headers.get('etag')).not.toBe(tag)
  })

  it('to a change is neither packed nor kept by a tag', async () => {
    const r = await answer({ 'accept-encoding': 'gzip', 'if-none-match': '*' }, large, 'POST')
    expect(r.status).toBe(200)
    expect(r.headers.get('content-encoding')).toBeNull()
    expect(r.headers.get('etag')).toBeNull()
  })
})

it('what an asker takes is read as the standard has it', () => {
  for (const yes of ['gzip', 'GZIP', 'br;q=1, gzip;q=0.5', '*', 'identity, gzip ; q=0.001']) expect(takesGzip(yes), yes).toBe(true)
  for (const no of [null, '', 'br', 'identity', 'gzip;q=0', 'gzip; q=0.000', 'x-gzip-not']) expect(takesGzip(no), String(no)).toBe(false)
})

it('tags are compared weakly', () => {
  expect(hasTag('W/"a"', '"a"')).toBe(true)
  expect(hasTag('"b" , "a"', 'W/"a"')).toBe(true)
  expect(hasTag('*', 'W/"a"')).toBe(true)
  expect(hasTag('"ab"', 'W/"a"')).toBe(false)
  expect(hasTag(null, 'W/"a"')).toBe(false)
})
