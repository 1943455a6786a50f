import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { ordersOf, registerTypes } from '../value/register'
import { formatModbusAddress, type ModbusAddress, parseModbusAddress, readPlace } from './modbus-address'
import { type Point, planReads, splitBlock } from './modbus-plan'
import { putValue, takeValue } from './modbus-value'

const parse = (text: string) => parseModbusAddress(text) as ModbusAddress

describe('a Modbus address', () => {
  it.each([
    ['3 holding@12 float32 CDAB', { unit: 3, area: 'holding', offset: 12, type: 'float32', words: 2, order: 'CDAB' }],
    ['3 holding#13 float32 CDAB', { offset: 12 }],
    ['3 40013 float32 cdab', { area: 'holding', offset: 12, order: 'CDAB' }],
    ['3 400013', { area: 'holding', offset: 12, type: 'uint16', order: 'AB' }],
    ['1 30001 int16 x0.1', { area: 'input', offset: 0, factor: 0.1 }],
    ['1 10008', { area: 'discrete', offset: 7, type: 'bit', bit: -1 }],
    ['1 00001', { area: 'coil', offset: 0 }],
    ['1 465536', { offset: 65_535 }],
    ['1 input@7.3', { type: 'bit', bit: 3 }],
    ['1 40001.15', { type: 'bit', bit: 15, offset: 0 }],
    ['9 holding@100 text/20', { type: 'text', words: 10, length: 20, order: 'AB' }],
  ])('%s', (text, part) => expect(parseModbusAddress(text)).toMatchObject(part))

  it.each([
    ['', 'unit id'],
    ['256 holding@1', 'unit id'],
    ['1 register 5', 'After the unit id'],
    ['1 holding#0', 'no 0'],
    ['1 holding@70000', '65535'],
    ['1 holding@65535 int32', 'beyond'],
    ['1 holding@1.16', 'bits 0 to 15'],
    ['1 coil@1.2', 'single bit'],
    ['1 coil@1 int16', 'no type'],
    ['1 holding@1 float16', 'is no type'],
    ['1 holding@1 float32 AB', 'ABCD, CDAB'],
    ['1 holding@1 float32 ABDC', 'one of'],
    ['1 holding@1 bit', 'Which bit'],
    ['1 holding@1 text/0', '1 to 240'],
    ['1 holding@1 x0', 'leaves nothing'],
    ['1 holding@1 text/4 x2', 'no factor'],
  ])('%s is refused in words', (text, words) => expect(parseModbusAddress(text)).toEqual({ problem: expect.stringContaining(words) }))

  const numeric = fc.constantFrom(...(Object.keys(registerTypes) as (keyof typeof registerTypes)[])).chain((type) =>
    fc.record({
      unit: fc.nat(255),
      area: fc.constantFrom('input' as const, 'holding' as const),
      offset: fc.nat(65_531),
      type: fc.constant(type),
      bit: fc.constant(-1),
      words: fc.constant(registerTypes[type] as number),
      length: fc.constant(0),
      order: fc.constantFrom(...ordersOf(registerTypes[type])),
      factor: fc.constantFrom(1, 0.1, 0.001, -1, 2.5e-7, 10),
    }),
  )
  const bit = fc.record({
    unit: fc.nat(255),
    area: fc.constantFrom('input' as const, 'holding' as const),
    offset: fc.nat(65_535),
    type: fc.constant('bit' as const),
    bit: fc.nat(15),
    words: fc.constant(1),
    length: fc.constant(0),
    order: fc.constant(''),
    factor: fc.constant(1),
  })
  const coil = bit.map((b) => ({ ...b, area: b.bit % 2 ? ('coil' as const) : ('discrete' as const), bit: -1 }))
  it('reads back what it writes, in each notation', () => {
    fc.assert(
      fc.property(fc.oneof(numeric, bit, coil), fc.constantFrom('offset' as const, 'number' as const, 'reference' as const), (a, notation) => {
        expect(parseModbusAddress(formatModbusAddress(a, notation))).toEqual(a)
      }),
      { numRuns: 1000 },
    )
  })
})

describe('gathering reads', () => {
  const points = fc.array(fc.tuple(fc.nat(60), fc.constantFrom('uint16', 'float32', 'float64')), { minLength: 1, maxLength: 9 })
  const make = (list: [number, string][]): Point<number>[] =>
    list.map(([offset, type], i) => ({ address: parse(`1 holding@${offset} ${type}`), rateMs: 500, item: i }))

  it('takes the fewest requests that the limits allow, each value whole in one', () => {
    fc.assert(
      fc.property(points, fc.nat(6), fc.integer({ min: 4, max: 20 }), (list, gap, maxRegisters) => {
        const all = make(list)
        const blocks = planReads(all, { gap, maxRegisters })
        expect(blocks.flatMap((b) => b.points.map((p) => p.item)).sort()).toEqual(all.map((p) => p.item).sort())
        for (const b of blocks) {
          expect(b.count).toBeLessThanOrEqual(maxRegisters)
          for (const p of b.points) {
            expect(p.address.offset).toBeGreaterThanOrEqual(b.offset)
            expect(p.address.offset + p.address.words).toBeLessThanOrEqual(b.offset + b.count)
          }
        }
        expect(blocks.length).toBe(fewest(all, gap, maxRegisters))
      }),
      { numRuns: 400 },
    )
  })

  /** By trying every cut of the sorted list: values taken together must keep to both limits. */
  function fewest(all: Point<number>[], gap: number, max: number): number {
    const sorted = [...all].sort((a, b) => a.address.offset - b.address.offset || b.address.words - a.address.words)
    const best = [0]
    for (let end = 1; end <= sorted.length; end++) {
      best[end] = Number.POSITIVE_INFINITY
      for (let begin = end - 1; begin >= 0; begin--) {
        const part = sorted.slice(begin, end)
        let reach = part[0]!.address.offset
        let fine = true
        for (const p of part) {
          if (p.address.offset - reach > gap) fine = false
          reach = Math.max(reach, p.address.offset + p.address.words)
        }
        if (fine && reach - part[0]!.address.offset <= max) best[end] = Math.min(best[end]!, best[begin]! + 1)
      }
    }
    return best[sorted.length]!
  }

  it('never mixes units, areas or rates', () => {
    const mixed = ['1 holding@0', '2 holding@1', '1 input@2', '1 coil@3', '1 discrete@4'].map((a, i) => ({ address: parse(a), rateMs: 500, item: i }))
    expect(planReads([...mixed, { address: parse('1 holding@1'), rateMs: 5000, item: 9 }], { gap: 10, maxRegisters: 125 }).length).toBe(6)
    expect(planReads([...mixed, { address: parse('1 holding@1'), rateMs: 500, item: 9 }], { gap: 10, maxRegisters: 125 }).length).toBe(5)
  })

  it('halves a refused block until a bad place stands alone', () => {
    let blocks = planReads(
      make([
        [0, 'uint16'],
        [1, 'uint16'],
        [2, 'float32'],
        [9, 'uint16'],
      ]),
      { gap: 20, maxRegisters: 125 },
    )
    expect(blocks).toMatchObject([{ offset: 0, count: 10 }])
    blocks = blocks.flatMap(splitBlock)
    expect(blocks).toMatchObject([
      { offset: 0, count: 2 },
      { offset: 2, count: 8 },
    ])
    blocks = blocks.flatMap(splitBlock).flatMap(splitBlock)
    expect(blocks.map((b) => [b.offset, b.count])).toEqual([
      [0, 1],
      [1, 1],
      [2, 2],
      [9, 1],
    ])
  })
})

describe('values out of an answer', () => {
  it.each([
    ['1 holding@10 float32 CDAB', [0xcccd, 0x3dcc], 0.1, 0],
    ['1 holding@10 int16 x0.1', [0xff85, 0], -12.3, 0],
    ['1 holding@10.3', [0b1000, 0], true, 0],
    ['1 holding@10.2', [0b1000, 0], false, 0],
    ['1 holding@10 text/4', [0x464a, 0x3100], 'FJ1', 0],
    ['1 holding@10 float32', [0x7fc0, 0], null, 0x80070000],
    ['1 holding@10 bcd16', [0xffff, 0], null, 0x80070000],
    ['1 holding@11 float32', [1, 2], null, 0x80050000],
  ])('%s of %j is %s', (address, words, value, status) => {
    expect(takeValue(words, 10, parse(address))).toMatchObject({ value, status })
  })

  it('keep all digits of 64 bits, and say when a factor makes them lose some', () => {
    const words = [0x0123, 0x4567, 0x89ab, 0xcdef]
    expect(takeValue(words, 0, parse('1 holding@0 uint64'))).toMatchObject({ value: 0x0123456789abcdefn, status: 0 })
    const taken = takeValue(words, 0, parse('1 holding@0 uint64 x0.1'))
    expect(taken).toMatchObject({ status: 0x40950000, note: expect.stringContaining('81985529216486895') })
  })

  it('are written back as they were read', () => {
    fc.assert(
      fc.property(fc.integer({ min: -32_768, max: 32_767 }), fc.constantFrom(1, 0.1, 0.01, 0.001, 5), (raw, factor) => {
        const a = parse(`1 holding@0 int16 x${factor}`)
        const words = [raw & 0xffff]
        expect(putValue(takeValue(words, 0, a).value, a)).toEqual(words)
      }),
    )
    expect(putValue(12.34, parse('1 holding@0 int16 x0.1'))).toEqual({ problem: 'The device knows steps of 0.1' })
    expect(putValue(4000, parse('1 holding@0 int16 x0.1'))).toEqual({ problem: '4000 does not fit int16' })
    expect(putValue('x', parse('1 holding@0'))).toEqual({ problem: 'This is a number' })
    expect(putValue(true, parse('1 coil@0'))).toEqual([1])
    expect(putValue('ABC', parse('1 holding@0 text/2'))).toMatchObject({ problem: expect.stringContaining('longer') })
  })
})

describe('where to look, as people write it', () => {
  it.each([
    ['12', 'offset', { unit: null, area: null, offset: 12 }],
    ['12', 'number', { unit: null, area: null, offset: 11 }],
    ['40013', 'reference', { unit: null, area: 'holding', offset: 12 }],
    ['40013', 'offset', { unit: null, area: null, offset: 40_013 }],
    ['400013', 'offset', { unit: null, area: 'holding', offset: 12 }],
    ['0x1F', 'offset', { unit: null, area: null, offset: 31 }],
    ['holding@12', 'reference', { unit: null, area: 'holding', offset: 12 }],
    ['INPUT#13', 'offset', { unit: null, area: 'input', offset: 12 }],
    ['coil@5', 'offset', { unit: null, area: 'coil', offset: 5 }],
    [' 3 holding@12 float32 CDAB ', 'offset', { unit: 3, area: 'holding', offset: 12 }],
    ['3 30005', 'offset', { unit: 3, area: 'input', offset: 4 }],
  ] as const)('%s with %s', (text, notation, place) => expect(readPlace(text, notation)).toEqual(place))
  it.each([
    ['', 'Write a place'],
    ['x', 'Write a place'],
    ['-1', 'Write a place'],
    ['70000', 'From 0 to 65535'],
    ['0', 'there is no 0', 'number'],
    ['300 holding@1', 'Write a place'],
    ['0x10000', 'Write a place'],
  ] as const)('%j is refused', (text, problem, notation: 'offset' | 'number' = 'offset') =>
    expect(readPlace(text, notation)).toEqual({ problem: expect.stringContaining(problem) }),
  )
  it('never throws, and what it reads lies within', () =>
    fc.assert(
      fc.property(fc.string(), fc.constantFrom('offset', 'number', 'reference' as const), (text, notation) => {
        const place = readPlace(text, notation)
        if (!('problem' in place)) expect(place.offset >= 0 && place.offset <= 65_535).toBe(true)
      }),
    ))
})
