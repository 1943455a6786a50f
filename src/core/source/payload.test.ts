import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { writeSparkplug } from '~/standins/cells/sparkplug'
import { Status } from '../value/quality'
import { checkAddress, showAddress } from './address'
import { atPointer, leavesOf, parsePointer } from './json-leaf'
import { proposeName } from './naming'
import { examine, fieldPlace, parseJson, statusOf, takeAs, takeLeaf, textOf, timeOf } from './payload'
import { readSparkplug, rebirthCommand, sparkplugTopic } from './sparkplug'

const bytes = (text: string) => new TextEncoder().encode(text)

describe('places in JSON', () => {
  // The examples of RFC 6901 5.
  const document = { foo: ['bar', 'baz'], '': 0, 'a/b': 1, 'c%d': 2, 'e^f': 3, 'k"l': 6, ' ': 7, 'm~n': 8 }
  it.each([
    ['', document],
    ['/foo', ['bar', 'baz']],
    ['/foo/0', 'bar'],
    ['/', 0],
    ['/a~1b', 1],
    ['/c%d', 2],
    ['/e^f', 3],
    ['/k"l', 6],
    ['/ ', 7],
    ['/m~0n', 8],
    ['/foo/01', undefined],
    ['/foo/length', undefined],
    ['/toString', undefined],
  ])('%s', (pointer, value) => expect(atPointer(document, parsePointer(pointer)!)).toEqual(value))

  it.each(['foo', '/a~', '/a~2b'])('%s is none', (p) => expect(parsePointer(p)).toBeNull())

  it('every leaf lies where it says', () => {
    fc.assert(
      fc.property(fc.jsonValue({ maxDepth: 4 }), (value) => {
        for (const leaf of leavesOf(value)) expect(atPointer(value, parsePointer(leaf.pointer)!)).toEqual(leaf.value)
      }),
    )
  })
})

describe('values from outside', () => {
  it.each([
    ['12.5', 'number', 12.5],
    [' -3e2 ', 'number', -300],
    ['1,5', 'number', undefined],
    ['', 'number', undefined],
    ['0x10', 'number', undefined],
    ['Infinity', 'number', undefined],
    [Number.NaN, 'number', undefined],
    ['7.9', 'integer', 7],
    ['ON', 'boolean', true],
    ['0', 'boolean', false],
    ['maybe', 'boolean', undefined],
    [true, 'number', 1],
    [12, 'text', '12'],
    [{ a: 1 }, 'text', '{"a":1}'],
    [{ a: 1 }, 'number', undefined],
    ['2026-11-23T10:00:00Z', 'time', '2026-11-23T10:00:00.000Z'],
    [1_700_000_000, 'time', '2023-11-14T22:13:20.000Z'],
    ['soon', 'time', undefined],
  ] as const)('%j as %s is %j', (raw, type, value) =>
    expect(takeAs(raw, type)).toMatchObject(value === undefined ? { value: null, status: Status.typeMismatch } : { value, status: Status.good }),
  )

  it.each([
    ['good', 0],
    [true, 0],
    [192, 0],
    [0, 0],
    [64, 0x40000000],
    ['Uncertain', 0x40000000],
    ['stale', Status.stale],
    ['fouled', 0x80000000],
    [false, 0x80000000],
    [0x808c0000, 0x808c0000],
  ])('quality %j', (said, status) => expect(statusOf(said)).toBe(status))

  it.each([
    [1_700_000_000, 1_700_000_000_000],
    [1_700_000_000_000, 1_700_000_000_000],
    ['1700000000123', 1_700_000_000_123],
    [12, null],
    ['yesterday', null],
  ])('time %j', (said, at) => expect(timeOf(said)).toBe(at))

  it('quality and time are taken from beside the value or from the top', () => {
    const document = { t: 1_700_000_000, a: { v: 5, q: 'bad', t: 1_700_000_001 } }
    const read = (time: string, quality: string) =>
      takeLeaf(document, { pointer: ['a', 'v'], dataType: 'number', time: fieldPlace(time, ['a', 'v']), quality: fieldPlace(quality, ['a', 'v']) })
    expect(read('t', 'q')).toMatchObject({ value: 5, status: 0x80000000, time: 1_700_000_001_000 })
    expect(read('/t', '')).toMatchObject({ value: 5, status: 0, time: 1_700_000_000_000 })
    expect(read('nothing', 'nothing')).toMatchObject({ value: 5, status: 0, time: null })
  })

  it('nothing that nests too deep reaches the parser, and braces in texts do not count', () => {
    expect(() => parseJson('['.repeat(200))).toThrow('deeper than 100')
    expect(parseJson(JSON.stringify({ a: '['.repeat(500), b: '\\"{' }))).toEqual({ a: '['.repeat(500), b: '\\"{' })
  })
})

describe('guessing what a payload is', () => {
  it.each([
    ['t', '21.5', 'number'],
    ['t', 'true', 'boolean'],
    ['t', 'running', 'text'],
    ['t', '{"a":1}', 'json'],
    ['t', '{"a":', 'text'],
    ['t', '', 'empty'],
    ['spBv1.0/g/NDATA/n', '21.5', 'number'],
  ])('%s %s is %s', (topic, payload, format) => expect(examine(topic, bytes(payload)).format).toBe(format))

  it('gives each leaf the address that a tag of it has, and every one is taken as such', () => {
    const found = examine('a/b', bytes('{"x":{"y/z":3},"l":[1,2]}'))
    expect(found.leaves.map((l) => l.address)).toEqual(['a/b#/x/y~1z', 'a/b#/l/0', 'a/b#/l/1'])
    for (const l of found.leaves) expect(checkAddress('mqtt', l.address)).toEqual({ address: l.address })
  })

  it('any bytes on any topic get an answer', () => {
    fc.assert(
      fc.property(fc.uint8Array({ maxLength: 200 }), fc.constantFrom('t', 'spBv1.0/g/NBIRTH/n', 'spBv1.0/g/DDATA/n/d'), (payload, topic) => {
        const found = examine(topic, payload)
        expect(found.sample.length).toBeLessThanOrEqual(4000)
        if (found.format === 'text') expect(textOf(payload)).not.toBeNull()
      }),
      { numRuns: 2000 },
    )
  })
})

describe('Sparkplug B', () => {
  it('reads what the stand-in writes: types, negative numbers, aliases, units', () => {
    const payload = readSparkplug(
      writeSparkplug(1_700_000_000_000, 5, [
        { name: 'i8', datatype: 1, value: -5 },
        { name: 'i32', datatype: 3, value: -2_000_000_000 },
        { name: 'u32', datatype: 7, value: 4_000_000_000 },
        { name: 'u64', datatype: 8, value: 9_007_199_254_740_991 },
        { name: 'f', datatype: 9, value: 1.5, unit: 'm' },
        { name: 'd', datatype: 10, value: 0.1 },
        { name: 'b', datatype: 11, value: true },
        { name: 's', datatype: 12, value: 'text', alias: 9 },
        { alias: 9, value: 'again', datatype: 12 },
      ]),
    )
    expect(payload).toMatchObject({ time: 1_700_000_000_000, seq: 5 })
    expect(payload.metrics.map((m) => m.value)).toEqual([-5, -2_000_000_000, 4_000_000_000, 9_007_199_254_740_991, 1.5, 0.1, true, 'text', 'again'])
    expect(payload.metrics[4]!.unit).toBe('m')
    expect(payload.metrics[8]).toMatchObject({ name: null, alias: 9 })
  })

  it('a rebirth command is a payload with one true metric', () => {
    expect(readSparkplug(rebirthCommand(1000)).metrics).toMatchObject([{ name: 'Node Control/Rebirth', value: true, datatype: 11 }])
  })

  it.each([
    ['spBv1.0/g/DDATA/n/d', { type: 'DDATA', node: 'spBv1.0/g/n', device: 'd', address: 'spBv1.0/g/n/d' }],
    ['spBv1.0/g/NBIRTH/n', { type: 'NBIRTH', address: 'spBv1.0/g/n' }],
    ['other/g/NBIRTH/n', null],
    ['spBv1.0/g', null],
  ])('%s', (topic, found) => expect(sparkplugTopic(topic)).toEqual(found === null ? null : expect.objectContaining(found)))
})

describe('addresses by kind', () => {
  it.each([
    ['opcua', 'ns=2;s=kiln.oxygen', true],
    ['opcua', 'i=2258', true],
    ['opcua', 'kiln', false],
    ['mqtt', 'a/b', true],
    ['mqtt', 'a/b#/x', true],
    ['mqtt', 'a/+/b', false],
    ['mqtt', 'a/b#x', false],
    ['mqtt', 'spBv1.0/g/n/d#head/height', true],
    ['mqtt', 'spBv1.0/g#m', false],
    ['mqtt', '#', false],
    ['sql', '/kiln 1/order_no', true],
    ['sql', 'order_no', false],
    ['http', '', true],
    ['simulated', 'sine low=1 high=2', true],
    ['simulated', 'square', false],
  ] as const)('%s %s: %s', (kind, address, fine) => expect('address' in checkAddress(kind, address)).toBe(fine))

  it('are stored in one form and shown as the source wants it', () => {
    expect(checkAddress('modbus', '3 40013  FLOAT32 cdab')).toEqual({ address: '3 holding@12 float32 CDAB' })
    expect(showAddress({ kind: 'modbus', settings: { notation: 'number' } }, '3 holding@12 float32 CDAB')).toBe('3 holding#13 float32 CDAB')
    expect(showAddress({ kind: 'http', settings: {} }, '/a')).toBe('/a')
  })
})

it('names follow from levels', () => {
  expect(proposeName(['cells', 'packing', 'stacker 1', 'rate'], { drop: 1, before: 'Works/' })).toBe('Works/packing/stacker 1/rate')
  expect(proposeName(['a'], { drop: 5, before: '' })).toBe('a')
  expect(proposeName(['a', '', 'b\u0007c'], { drop: 0, before: '' })).toBe('a/b c')
})
