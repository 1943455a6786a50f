import { describe, expect, it } from 'vitest'
import { arrival, beside, FROM, type Kind, kinds, random, signal, TO } from '../../../tests/kits/signals'
import { conversion } from '../value/convert'
import { decodeRegisters, encodeRegisters } from '../value/register'
import { type Beside, type Comparison, compare } from './compare'
import { findExchanged } from './exchanged'

const identity = { factor: 1, offset: 0 }

/** A signal, and what arrives of it through something that goes wrong. */
function wrong(seed: number, change: (v: number) => number, o: Partial<Beside> = {}, kind: Kind = 'wave'): Comparison {
  const held = signal(kind, random(seed))
  const came = { at: held.at, value: held.value.map(change) }
  return compare(beside(held, came, o))
}

const swapped = (v: number) => Number(decodeRegisters(encodeRegisters(v, 'float32', 'ABCD')!, 0, 'float32', 'CDAB'))
const seeds = Array.from({ length: 5 }, (_, n) => n + 1)

describe('what is planted is named', () => {
  it.each(seeds)('a factor of 10, seed %i', (seed) => {
    expect(wrong(seed, (v) => v * 10)).toMatchObject({ state: 'differs', finding: { kind: 'factor', factor: 10 } })
    expect(wrong(seed, (v) => Math.round(v * 100) / 100 / 10)).toMatchObject({ finding: { kind: 'factor', factor: 0.1 } })
  })

  it.each(seeds)('an offset, and a line, seed %i', (seed) => {
    expect(wrong(seed, (v) => v + 4)).toMatchObject({ finding: { kind: 'offset', offset: 4 } })
    const { finding } = wrong(seed, (v) => v * 1.25 - 31)
    expect(finding?.kind).toBe('line')
    expect(finding?.kind === 'line' && [finding.factor, finding.offset].map((x) => Math.round(x * 100) / 100)).toEqual([1.25, -31])
  })

  it.each(seeds)('words exchanged, seed %i', (seed) => {
    const held = signal('wave', random(seed))
    const single = { at: held.at, value: held.value.map(Math.fround) }
    const raw = { factor: 0.5, offset: 0 }
    const found = (o: Partial<Beside>, came: number[]) => compare(beside(single, { at: single.at, value: came }, o)).finding
    expect(found({ raw: identity }, single.value.map(swapped))).toEqual({ kind: 'order', type: 'float32', order: 'CDAB' })
    // Scaled after it was read: what arrives was scaled so too.
    const scaled = (v: number) => v * raw.factor + raw.offset
    const through = { at: single.at, value: single.value.map(swapped).map(scaled) }
    expect(compare(beside({ at: single.at, value: single.value.map(scaled) }, through, { raw })).finding).toMatchObject({ kind: 'order' })
    const whole = single.value.map((v) => Math.round(v * 1000))
    const word = whole.map((v) => Number(decodeRegisters(encodeRegisters(v, 'int32', 'ABCD')!, 0, 'int32', 'CDAB')))
    expect(compare(beside({ at: single.at, value: whole }, { at: single.at, value: word }, { raw: identity })).finding).toMatchObject({
      kind: 'order',
      order: 'CDAB',
    })
  })

  it.each(seeds)('an hour, seed %i', (seed) => {
    const held = signal('walk', random(seed))
    const came = { at: held.at.map((t) => t + 3_600_000), value: held.value }
    expect(compare(beside(held, came)).finding).toEqual({ kind: 'shift', ms: 3_600_000 })
    const early = { at: held.at.map((t) => t - 3_600_000), value: held.value }
    expect(compare(beside(held, early)).finding).toEqual({ kind: 'shift', ms: -3_600_000 })
    // Only what stands in the message is off.
    const said = held.at.map(() => 3_600_000 - 140)
    expect(compare(beside(held, held, { saidLaterMs: said })).finding).toEqual({ kind: 'shift', ms: 3_600_000 })
  })

  it.each(seeds)('another unit than is said, seed %i', (seed) => {
    const fahrenheit = conversion('°C', '°F')!
    const through = (v: number) => Math.round((v * fahrenheit.factor + fahrenheit.offset) * 100) / 100
    expect(wrong(seed, through, { units: { held: '°C', said: '°C' } }).finding).toEqual({ kind: 'unit', is: '°F', said: '°C' })
    expect(wrong(seed, (v) => v, { units: { held: '°C', said: 'K' } }).finding).toEqual({ kind: 'unit', is: '°C', said: 'K' })
    expect(wrong(seed, (v) => v / 100, { units: { held: 'kPa', said: 'kPa' } }).finding).toEqual({ kind: 'factor', factor: 0.01, unit: 'bar' })
    // What is converted as it is said is right.
    const stated = conversion('°C', 'K')!
    const right = wrong(seed, (v) => Math.round((v + 273.15) * 100) / 100, { stated, units: { held: '°C', said: 'K' } })
    expect(right).toMatchObject({ state: 'agrees', finding: null })
  })

  it.each(seeds)('a deadband that is too wide, and a pace that is too slow, seed %i', (seed) => {
    const held = signal('wave', random(seed))
    const { low, high } = { low: Math.min(...held.value), high: Math.max(...held.value) }
    const width = (high - low) * 0.3
    const wide = arrival(held, random(seed), { width })
    expect(compare(beside(held, wide, { width }))).toMatchObject({ state: 'agrees', finding: { kind: 'deadband', size: width } })
    const guessed = compare(beside(held, wide)).finding
    expect(guessed?.kind === 'deadband' && guessed.size).toBeGreaterThanOrEqual(width)
    const slow = arrival(held, random(seed), { everyMs: 240_000 })
    expect(compare(beside(held, slow)).finding).toMatchObject({ kind: 'seldom', everyMs: 240_000 })
  })

  it.each(seeds)('yes for no, what stands still, and what does not come, seed %i', (seed) => {
    const held = signal('switch', random(seed))
    expect(compare(beside(held, { at: held.at, value: held.value.map((v) => 1 - v) }, { logical: true })).finding).toEqual({ kind: 'inverted' })
    const moving = signal('walk', random(seed))
    const half = moving.at.findIndex((t) => t > FROM + 1_800_000)
    const still = { at: moving.at.slice(0, half), value: moving.value.slice(0, half) }
    expect(compare(beside(moving, still)).finding).toEqual({ kind: 'still', since: moving.at[half - 1] })
    expect(compare(beside(moving, { at: [], value: [] }))).toMatchObject({ state: 'nothing', finding: { kind: 'nothing' } })
  })
})

describe('over many pairs', () => {
  const many = (of: (n: number) => Beside) => {
    const all = Array.from({ length: 500 }, (_, n) => of(n)).map((one) => ({ beside: one, comparison: compare(one) }))
    findExchanged(all)
    return all.map(({ comparison }) => comparison)
  }

  /** What arrives of a signal where all is well: rounded, thinned a little, late, with some lost. */
  const healthy = (n: number) => {
    const chance = random(n * 7919 + 5)
    const kind = kinds[n % kinds.length]!
    const held = signal(kind, chance)
    const bounds = { low: Math.min(...held.value), high: Math.max(...held.value) }
    const width = kind === 'name' || chance() < 0.5 ? 0 : (bounds.high - bounds.low) * 0.02 * chance()
    const decimals = kind === 'name' || kind === 'switch' || kind === 'count' ? null : chance() < 0.5 ? 2 : null
    const everyMs = chance() < 0.3 ? 10_000 : 0
    const came = arrival(held, chance, { width, decimals, everyMs, lost: chance() < 0.3 ? 0.05 : 0 })
    return beside(held, came, { width, logical: kind === 'switch', named: kind === 'name', units: { held: '°C', said: '°C' } })
  }

  it('500 healthy pairs get no name', () => {
    const all = many(healthy)
    expect(all.flatMap((c, n) => (c.finding ? [{ n, signal: kinds[n % kinds.length], ...c.finding }] : []))).toEqual([])
    expect(all.filter((c) => c.state === 'agrees').length).toBeGreaterThan(450)
    expect(all.filter((c) => c.state === 'differs')).toEqual([])
  })

  it('500 healthy pairs that come by another way, seconds later, get no name', () => {
    const all = many((n) => {
      const one = healthy(n)
      const late = 400 + (n % 40) * 200
      return { ...one, behindMs: 60_000, came: { at: one.came.at.map((t) => t + late), value: one.came.value } }
    })
    const found = all.flatMap((c, n) => (c.behindMs === null ? [] : [Math.abs(c.behindMs - 400 - (n % 40) * 200)]))
    expect(found.length).toBeGreaterThan(200)
    // What is told every 10 s only is 5 s later, on the whole.
    expect(found.filter((off) => off < 1500).length / found.length).toBeGreaterThan(0.85)
    expect(Math.max(...found)).toBeLessThan(8000)
    expect(all.flatMap((c, n) => (c.finding ? [{ n, signal: kinds[n % kinds.length], ...c.finding }] : []))).toEqual([])
  })

  it('two that are exchanged are found, and one that carries what is another’s', () => {
    const all = many((n) => {
      const one = healthy(n)
      const from =
        new Map([
          [18, 36],
          [36, 18],
          [54, 72],
        ]).get(n) ?? n
      return from === n ? one : { ...one, came: healthy(from).came }
    })
    expect(all.flatMap((c, n) => (c.finding ? [[n, c.finding]] : []))).toEqual([
      [18, { kind: 'exchanged', with: 36 }],
      [36, { kind: 'exchanged', with: 18 }],
      [54, { kind: 'other', carries: 72 }],
    ])
  })
})

describe('the figures', () => {
  const held = { at: [0, 1000, 2000, 3000].map((t) => FROM + t), value: [10, 11, 12, 13] }
  it('say how much arrived, how far it is off, and what explains that', () => {
    const came = { at: [FROM, FROM + 2000], value: [10, 12] }
    const c = compare({ ...beside(held, came), to: FROM + 4000 })
    expect(c).toMatchObject({ held: 4, carried: 2, came: 2, off: 0, span: 3, most: 1, between: 1, decimals: 0, unexplained: 0 })
    // A second each of nothing and of one, twice.
    expect(c.rms).toBeCloseTo(Math.sqrt(0.5), 9)
  })

  it('what is rounded is told as decimals, what is not is unexplained', () => {
    const fine = { at: held.at, value: [10.04, 11.02, 12.03, 13.01] }
    const d = compare({ ...beside(fine, { at: held.at, value: [10, 11, 12, 15] }), to: FROM + 4000 })
    expect(d).toMatchObject({ off: 1 })
    expect(d.decimals).toBeCloseTo(0.04, 9)
    expect(d.unexplained).toBeCloseTo(1.99, 9)
  })

  it('a counter in millions that is one too high is another one', () => {
    const count = { at: held.at, value: [10_000_000, 10_000_001, 10_000_005, 10_000_009] }
    const high = { at: held.at, value: count.value.map((v) => v + 1) }
    expect(compare({ ...beside(count, high), to: FROM + 4000 }).off).toBe(4)
    expect(compare({ ...beside(count, count), to: FROM + 4000 })).toMatchObject({ state: 'agrees', off: 0 })
  })

  it('a gap in what was held is nothing to compare with', () => {
    const gap = { at: held.at, value: [10, Number.NaN, 12, 13] }
    expect(compare({ ...beside(gap, held), to: FROM + 4000 })).toMatchObject({ off: 0, came: 4, held: 3 })
    expect(compare({ ...beside({ at: [], value: [] }, held), to: TO })).toMatchObject({ state: 'little', finding: null })
  })
})
