import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { parseRecording, parseSignal, runSignal, type Signal, signalExamples } from './signal'

const signal = (text: string) => parseSignal(text) as Signal
const run = (text: string, seed = 1, name = 'n') => runSignal(signal(text), seed, name)
const series = (f: (t: number) => unknown, step = 0.5, count = 400) => Array.from({ length: count }, (_, i) => f(i * step))

describe('signals', () => {
  it.each(signalExamples)('%s is one', (text) => expect(parseSignal(text)).not.toHaveProperty('problem'))

  it.each([
    ['square', 'A signal is one of'],
    ['sine low=5 high=5', 'below high'],
    ['sine low=x', 'no number'],
    ['sine low', 'not name=value'],
    ['sine speed=1', 'means nothing'],
    ['ramp period=0', 'above 0'],
    ['steps step=1', '2 or more'],
    ['counter rate=0', 'above 0'],
    ['cycle', 'needs values'],
    ['replay', 'needs column'],
  ])('%s is refused in words', (text, words) => expect(parseSignal(text)).toEqual({ problem: expect.stringContaining(words) }))

  it('with the same seed and name are the same, with another are not', () => {
    for (const text of ['walk low=0 high=10', 'noise low=0 high=1', 'sine low=0 high=1']) {
      expect(series(run(text))).toEqual(series(run(text)))
      expect(series(run(text, 1, 'other'))).not.toEqual(series(run(text)))
    }
    expect(series(run('walk low=0 high=10', 2))).not.toEqual(series(run('walk low=0 high=10', 1)))
  })

  it('stay within low and high', () => {
    fc.assert(
      fc.property(
        fc.constantFrom('sine', 'ramp', 'steps', 'walk', 'noise', 'counter'),
        fc.integer({ min: -1000, max: 1000 }),
        fc.integer({ min: 1, max: 1000 }),
        fc.nat(),
        (kind, low, span, seed) => {
          for (const v of series(runSignal(signal(`${kind} low=${low} high=${low + span} step=3`), seed, 'x'))) {
            expect(v).toBeGreaterThanOrEqual(low - 1e-6)
            expect(v).toBeLessThanOrEqual(low + span + 1e-6)
          }
        },
      ),
    )
  })

  it('a counter rolls over after high', () => {
    expect(series(run('counter rate=1 high=3'), 1, 6)).toEqual([0, 1, 2, 3, 0, 1])
  })

  it('steps has so many levels, both ends among them', () => {
    expect([...new Set(series(run('steps low=0 high=100 step=5 period=10')))].sort((a, b) => Number(a) - Number(b))).toEqual([0, 25, 50, 75, 100])
  })

  it('a walk never jumps further than its step a period', () => {
    const at = series(run('walk low=0 high=100 step=2 period=1'), 1) as number[]
    for (let i = 1; i < at.length; i++) expect(Math.abs(at[i]! - at[i - 1]!)).toBeLessThanOrEqual(2 + 1e-6)
  })

  it.each([
    ['fixed values=42', 42],
    ['fixed values=true', true],
    ['fixed values="two words"', 'two words'],
  ])('%s', (text, value) => expect(run(text)(0)).toBe(value))
})

describe('recordings', () => {
  it('are replayed by their times, and again from the start', () => {
    const r = parseRecording('time;a;b\n2026-01-01T00:00:00Z;1,5;x\n2026-01-01T00:00:10Z;2;\n')
    const a = runSignal(signal('replay column=a'), 1, '', r)
    expect([0, 5, 10, 19.9, 20, 30].map(a)).toEqual([1.5, 1.5, 2, 2, 1.5, 2])
    const b = runSignal(signal('replay column=b'), 1, '', r)
    expect([0, 10].map(b)).toEqual(['x', null])
    expect(runSignal(signal('replay column=none'), 1, '', r)(0)).toBeNull()
  })

  it.each([
    ['a,b', 'at least one row'],
    ['t,a\nnow,1', 'Row 2'],
    ['t,a\n5,1\n4,1', 'Row 3'],
  ])('%j is refused with its row', (csv, words) => expect(() => parseRecording(csv)).toThrow(words))
})
