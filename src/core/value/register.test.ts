import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { candidates, decodeRegisters, decodeText, encodeRegisters, encodeText, ordersOf, type RegisterType, registerTypes } from './register'

describe('decoding registers, against vectors worked out by hand', () => {
  // 123.456 in IEEE 754 binary32 is 42 F6 E9 79; -1234567 is FF ED 29 79; 0x0123456789ABCDEF is 81985529216486895.
  it.each<[RegisterType, string, number[], number | bigint | null]>([
    ['float32', 'ABCD', [0x42f6, 0xe979], Math.fround(123.456)],
    ['float32', 'CDAB', [0xe979, 0x42f6], Math.fround(123.456)],
    ['float32', 'BADC', [0xf642, 0x79e9], Math.fround(123.456)],
    ['float32', 'DCBA', [0x79e9, 0xf642], Math.fround(123.456)],
    ['int32', 'ABCD', [0xffed, 0x2979], -1_234_567],
    ['int32', 'CDAB', [0x2979, 0xffed], -1_234_567],
    ['int32', 'BADC', [0xedff, 0x7929], -1_234_567],
    ['int32', 'DCBA', [0x7929, 0xedff], -1_234_567],
    ['uint32', 'ABCD', [0xffff, 0xfffe], 4_294_967_294],
    ['uint32', 'CDAB', [0x0001, 0x0002], 0x0002_0001],
    ['int16', 'AB', [0x8000], -32_768],
    ['int16', 'BA', [0x0080], -32_768],
    ['uint16', 'AB', [0xfffe], 65_534],
    ['uint16', 'BA', [0x3412], 0x1234],
    ['bcd16', 'AB', [0x1234], 1234],
    ['bcd16', 'BA', [0x3412], 1234],
    ['bcd16', 'AB', [0x12a4], null],
    ['bcd32', 'ABCD', [0x0012, 0x3456], 123_456],
    ['bcd32', 'CDAB', [0x3456, 0x0012], 123_456],
    ['uint64', 'ABCDEFGH', [0x0123, 0x4567, 0x89ab, 0xcdef], 81_985_529_216_486_895n],
    ['uint64', 'GHEFCDAB', [0xcdef, 0x89ab, 0x4567, 0x0123], 81_985_529_216_486_895n],
    ['uint64', 'BADCFEHG', [0x2301, 0x6745, 0xab89, 0xefcd], 81_985_529_216_486_895n],
    ['uint64', 'HGFEDCBA', [0xefcd, 0xab89, 0x6745, 0x2301], 81_985_529_216_486_895n],
    ['uint64', 'CDABGHEF', [0x4567, 0x0123, 0xcdef, 0x89ab], 81_985_529_216_486_895n],
    ['uint64', 'EFGHABCD', [0x89ab, 0xcdef, 0x0123, 0x4567], 81_985_529_216_486_895n],
    ['uint64', 'DCBAHGFE', [0x6745, 0x2301, 0xefcd, 0xab89], 81_985_529_216_486_895n],
    ['uint64', 'FEHGBADC', [0xab89, 0xefcd, 0x2301, 0x6745], 81_985_529_216_486_895n],
    ['int64', 'ABCDEFGH', [0xffff, 0xffff, 0xffff, 0xfffe], -2n],
    // 1.5 in binary64 is 3FF8 0000 0000 0000.
    ['float64', 'ABCDEFGH', [0x3ff8, 0, 0, 0], 1.5],
    ['float64', 'GHEFCDAB', [0, 0, 0, 0x3ff8], 1.5],
    ['float64', 'HGFEDCBA', [0, 0, 0, 0xf83f], 1.5],
  ])('%s %s of %j is %s', (type, order, words, value) => expect(decodeRegisters(words, 0, type, order)).toEqual(value))

  it('has every order once: bytes, words and halves each swapped or not', () => {
    expect(ordersOf(1).length).toBe(2)
    expect(ordersOf(2).length).toBe(4)
    expect(new Set(ordersOf(4)).size).toBe(8)
    for (const n of [1, 2, 4] as const) for (const o of ordersOf(n)) expect([...o].sort().join('')).toBe('ABCDEFGH'.slice(0, n * 2))
  })

  it('gives nothing when the answer ends before the value does', () => {
    expect(decodeRegisters([1], 0, 'int32', 'ABCD')).toBeNull()
    expect(decodeText([0x4142], 0, 3, 'AB')).toBeNull()
  })
})

describe('encoding', () => {
  const kinds = Object.keys(registerTypes) as RegisterType[]
  it('what is written is what is read, for every type and order', () => {
    const bits = fc.bigInt({ min: 0n, max: 2n ** 64n - 1n })
    fc.assert(
      fc.property(fc.constantFrom(...kinds), fc.nat(7), bits, (type, o, pattern) => {
        const count = registerTypes[type]
        const order = ordersOf(count)[o % ordersOf(count).length]!
        const words = Array.from({ length: count }, (_, i) => Number((pattern >> BigInt(i * 16)) & 0xffffn))
        const value = decodeRegisters(words, 0, type, order)
        if (value === null || Number.isNaN(value)) return
        expect(encodeRegisters(value, type, order)).toEqual(words)
      }),
      { numRuns: 2000 },
    )
  })

  it.each<[number | bigint, RegisterType]>([
    [40_000, 'int16'],
    [-1, 'uint16'],
    [1.5, 'int32'],
    [10_000, 'bcd16'],
    [-1, 'bcd32'],
    [2n ** 64n, 'uint64'],
    [1e300, 'float32'],
  ])('%s does not fit %s', (value, type) => expect(encodeRegisters(value, type, ordersOf(registerTypes[type])[0]!)).toBeNull())

  it('texts come back, up to their length', () => {
    expect(decodeText([0x4b49, 0x4c4e, 0x2d00], 0, 6, 'AB')).toBe('KILN-')
    expect(decodeText([0x494b, 0x4e4c], 0, 4, 'BA')).toBe('KILN')
    expect(decodeText([0xb043], 0, 2, 'AB')).toBe('°C')
    expect(encodeText('too long', 4, 'AB')).toBeNull()
    fc.assert(
      fc.property(fc.string({ maxLength: 12 }), fc.constantFrom('AB', 'BA'), (s, order) => {
        const text = s.split('\0')[0]!.trimEnd()
        const length = Math.max(1, new TextEncoder().encode(text).length)
        expect(decodeText(encodeText(text, length, order)!, 0, length, order)).toBe(text)
      }),
    )
  })
})

describe('candidates', () => {
  it('are all decodings there are, and a range leaves those inside it', () => {
    const all = candidates([0xe979, 0x42f6, 0, 0], 0, { low: 100, high: 150 })
    expect(all.length).toBe(3 * 2 + 4 * 4 + 3 * 8)
    const around = candidates([0x0001, 0x0002], 0, { low: 0, high: 400 })
    expect(around.find((c) => c.type === 'float32' && c.order === 'ABCD')).toMatchObject({ plausible: false })
    expect(all.filter((c) => c.plausible).map((c) => `${c.type} ${c.order}`)).toEqual(['float32 CDAB'])
  })

  it('without a range, what no measured value looks like is not plausible', () => {
    const tiny = candidates([0x0001, 0x0002], 0, null).find((c) => c.type === 'float32' && c.order === 'ABCD')!
    expect(tiny.plausible).toBe(false)
    expect(candidates([0x7fc0, 0], 0, null).find((c) => c.type === 'float32' && c.order === 'ABCD')!.plausible).toBe(false)
  })
})
