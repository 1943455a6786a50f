import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { assurances, type Envelope } from './envelope'
import { plainJson, unpackProperties } from './properties'
import { decodeSegment, encodeSegment, parseRanges, rangesOf, SegmentError } from './segment'

const envelope: fc.Arbitrary<Envelope> = fc.record({
  delivery: fc.nat({ max: 0xffffffff }),
  seq: fc.nat({ max: Number.MAX_SAFE_INTEGER }),
  topic: fc.string({ unit: 'grapheme', maxLength: 60 }),
  payload: fc.string({ unit: 'grapheme', maxLength: 400 }),
  assurance: fc.constantFrom(...assurances),
  deviceAt: fc.double({ min: 0, max: 1e14, noNaN: true }),
  producedAt: fc.nat({ max: Number.MAX_SAFE_INTEGER }),
  turn: fc.nat({ max: 0xffff }),
  madeMono: fc.constant(0),
  properties: fc.oneof(fc.constant(''), fc.string({ unit: 'grapheme', maxLength: 60 })),
})
const text = (p: string | Uint8Array) => (typeof p === 'string' ? p : new TextDecoder().decode(p))

const one: Envelope = {
  delivery: 1,
  seq: 7,
  topic: 'a/b',
  payload: '{"x":1}',
  assurance: 'acknowledged',
  deviceAt: 5,
  producedAt: 6,
  turn: 0,
  madeMono: 6,
  properties: '',
}

describe('a segment', () => {
  it('gives back every message as it was, twice over', () => {
    fc.assert(
      fc.property(fc.array(envelope, { maxLength: 30 }), (messages) => {
        const made = messages.map((m) => ({ ...m, madeMono: m.producedAt }))
        const once = decodeSegment(encodeSegment(made))
        expect(once.map((m) => ({ ...m, madeMono: 0, payload: text(m.payload) }))).toEqual(messages)
        expect(made).toEqual(once)
        // What was read back is octets; written again it must be the same.
        expect(encodeSegment(once)).toEqual(encodeSegment(messages))
      }),
    )
  })

  it('written by an earlier version says by a flag what is kept at the far end', () => {
    const bytes = Uint8Array.from(encodeSegment([{ ...one, properties: '' }]))
    bytes[0] = 3
    bytes[5 + 28]! |= 4
    expect(unpackProperties(decodeSegment(bytes)[0]!.properties)).toEqual({ ...plainJson, kept: true })
    bytes[5 + 28] = 2
    expect(decodeSegment(bytes)[0]).toMatchObject({ assurance: 'once', properties: '' })
    bytes[5 + 28] = 3
    expect(() => decodeSegment(bytes)).toThrow('assurance')
  })

  it('is refused when cut short anywhere, and when something follows', () => {
    const bytes = encodeSegment([{ ...one }])
    for (let n = 0; n < bytes.length; n++) expect(() => decodeSegment(bytes.subarray(0, n))).toThrow(SegmentError)
    expect(() => decodeSegment(new Uint8Array([...bytes, 0]))).toThrow(SegmentError)
    expect(() => decodeSegment(new Uint8Array([9, ...bytes.subarray(1)]))).toThrow(SegmentError)
  })

  it('refuses a topic longer than MQTT allows', () => {
    const long = {
      delivery: 1,
      seq: 1,
      topic: 'x'.repeat(65_536),
      payload: '',
      assurance: 'sent' as const,
      deviceAt: 0,
      producedAt: 0,
      turn: 0,
      madeMono: 0,
      properties: '',
    }
    expect(() => encodeSegment([long])).toThrow(SegmentError)
  })

  it('tells which numbers of which delivery are in it', () => {
    const of = (...all: [number, number][]) => rangesOf(all.map(([delivery, seq]) => ({ delivery, seq })))
    expect(of([3, 1], [7, 5], [3, 2], [3, 3], [7, 9], [3, 5])).toBe('3:1-3,7:5-5,7:9-9,3:5-5')
    expect(parseRanges('3:1-3,7:5-5')).toEqual([
      [3, 1, 3],
      [7, 5, 5],
    ])
    expect(parseRanges('')).toEqual([])
  })

  it('says when its messages were made by the monotonic clock, as near as can be told', () => {
    const [m] = decodeSegment(
      encodeSegment([
        {
          delivery: 1,
          seq: 7,
          topic: 'a',
          payload: '',
          assurance: 'acknowledged',
          deviceAt: 5,
          producedAt: 1000,
          turn: 2,
          madeMono: 6,
          properties: '',
        },
      ]),
      -990,
    )
    expect(m).toMatchObject({ madeMono: 10, turn: 2, producedAt: 1000 })
  })
})
