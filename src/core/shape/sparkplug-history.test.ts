import fc from 'fast-check'
import { expect, it } from 'vitest'
import { encoderOf, shapes } from './registry'
import { cell, kiln, member, part, scope, settings } from './shape-samples'
import { compressed, withoutSeq, withSeq } from './sparkplug-birth'
import { asMade, envelopeOf, historical } from './sparkplug-history'
import { published } from './sparkplug-published'

const payload = (values: unknown[]) => {
  const cells = kiln.members.map((_, i) => cell((values[i] ?? null) as never, i % 4 === 3 ? 0x40900000 : 0))
  return encoderOf(settings({ kind: 'sparkplug-b' }), scope([kiln]))({ parts: [part(cells)], now: 1_772_633_232_481, seq: 1, whole: true })!
    .payload as Uint8Array
}
const values = fc.tuple(fc.double(), fc.integer(), fc.boolean(), fc.string({ unit: 'binary', maxLength: 300 }), fc.constant(null), fc.double())

it('every metric is marked, by the published definition, and the mark comes off again to the octet', () => {
  fc.assert(
    fc.property(values, fc.nat(1000), (v, seq) => {
      const made = payload(v)
      const sent = withSeq(historical(made), seq)
      const read = published.toObject(published.decode(sent), { longs: Number }) as { metrics: { isHistorical: boolean }[]; seq: number }
      expect(read.metrics.map((m) => m.isHistorical)).toEqual(kiln.members.map(() => true))
      expect(read.seq).toBe(seq & 255)
      expect(asMade(withoutSeq(sent))).toEqual(made)
      expect(asMade(made)).toBe(made)
    }),
  )
})

it('what is no such payload stays as it is', () => {
  fc.assert(
    fc.property(fc.uint8Array({ maxLength: 100 }), (b) => {
      const out = asMade(b)
      expect(out === b || out.length < b.length).toBe(true)
    }),
  )
})

it('an envelope of compressed octets gives what is in it, to be made again to the octet', () => {
  const body = Uint8Array.from([1, 2, 3, 0x28, 1])
  for (const algorithm of ['gzip', 'deflate'] as const) {
    const made = compressed(algorithm, body, 1_772_633_232_481)
    const read = envelopeOf(made)!
    expect(read).toEqual({ algorithm, at: 1_772_633_232_481, body })
    expect(compressed(read.algorithm, read.body, read.at)).toEqual(made)
  }
  expect(envelopeOf(payload([1, 2, true, 'x', null, 3]))).toBeNull()
})

it('names that differ in capitals only are told', () => {
  const doubts = (members: string[], name = 'Zone 7') =>
    shapes['sparkplug-b'].doubts!(settings({ kind: 'sparkplug-b' }) as never, [
      { ...kiln, name: 'zone 7', members: [] },
      { ...kiln, name, members: members.map((m) => member(m)) },
    ])
  expect(doubts(['a', 'b'], 'Zone 8')).toEqual([])
  expect(doubts(['a', 'b'])).toEqual([expect.stringContaining('zone 7 and Zone 7 differ in capitals only')])
  expect(doubts(['flow', 'Flow'], 'Zone 8')).toEqual([expect.stringContaining('Zone 8: flow and Flow')])
})
