import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { plainJson } from '~/core/delivery/properties'
import { reasonIn, retryAfter } from './answers'
import { bodyOf, headersOf, headerText, idsText, type Sending } from './request'

const sending = (payload: string, id = 'a.1.1'): Sending => ({ path: 'p', payload: Buffer.from(payload), beside: plainJson, id })
const text = (body: Uint8Array) => Buffer.from(body).toString('utf8')

describe('a request', () => {
  it('with many messages is read back as they were, as an array and as lines, also where one is laid out over lines', () => {
    fc.assert(
      fc.property(fc.array(fc.json(), { minLength: 1, maxLength: 8 }), fc.boolean(), (all, spread) => {
        const values = all.map((one) => JSON.parse(one) as unknown)
        const sent = values.map((v) => sending(JSON.stringify(v, null, spread ? 2 : 0).replaceAll('\n', spread ? '\r\n' : '\n')))
        expect(JSON.parse(text(bodyOf(sent, 'array')))).toEqual(values)
        const lines = text(bodyOf(sent, 'lines')).split('\n')
        expect(lines.pop()).toBe('')
        expect(lines.map((l) => JSON.parse(l) as unknown)).toEqual(values)
      }),
    )
  })

  it('names its messages shortly', () => {
    expect(idsText(['a.1.7'])).toBe('a.1.7')
    expect(idsText(['a.1.7', 'a.1.8', 'a.1.9', 'a.2.10', 'a.2.12', 'b.2.13'])).toBe('a.1.7-9,a.2.10,a.2.12,b.2.13')
  })

  it('has the key of just these messages, and headers that can be carried', () => {
    const beside = { ...plainJson, headers: [['Line', 'Ofen 1 – heiß\r\nx: y']] as [string, string][] }
    const headers = headersOf([{ ...sending('{}', 'a.1.7'), beside }], 'one')
    expect(headers).toEqual({
      accept: 'application/json',
      'content-type': 'application/json',
      line: 'Ofen 1 %E2%80%93 hei%C3%9F%0D%0Ax: y',
      'embrik-id': 'a.1.7',
      'idempotency-key': '"a.1.7"',
    })
    expect(headersOf([sending('{}', 'a.1.1'), sending('{}', 'a.1.2')], 'lines')).toMatchObject({
      'content-type': 'application/x-ndjson',
      'idempotency-key': '"a.1.1-2"',
    })
  })

  it.each([['\ud800'], ['a\u0000b'], ['\u2028'], ['']])('carries %j as a header', (value) => expect(headerText(value)).toMatch(/^[\x20-\x7e]*$/))
})

describe('what a server says', () => {
  it.each([
    ['{"title":"No","detail":"Zone 7 is not ours"}', 'Zone 7 is not ours'],
    ['{"error":"invalid"}', 'invalid'],
    ['{"error":{"code":1}}', '{"error":{"code":1}}'],
    ['{"half', '{"half'],
    ['<html><head><style>p{}</style></head><body><h1>Bad\n gateway</h1></body></html>', 'Bad gateway'],
    ['', ''],
    [`x${'y'.repeat(400)}`, `x${'y'.repeat(299)}…`],
    ['red\u001b[31m\u202etxt', 'red [31m txt'],
  ])('%j becomes a reason', (body, reason) => expect(reasonIn(body)).toBe(reason))

  it.each([
    [undefined, 0],
    ['7', 7000],
    ['-1', 0],
    ['Sat, 28 Nov 2026 12:00:10 GMT', 10_000],
    ['Sat, 28 Nov 2026 11:00:00 GMT', 0],
    ['soon', 0],
    ['999999', 3_600_000],
  ])('Retry-After %j is %i ms', (value, ms) => {
    const now = Date.parse('2026-11-28T12:00:00Z')
    expect(retryAfter(value === undefined ? {} : { 'retry-after': value }, now)).toBe(ms)
  })
})
