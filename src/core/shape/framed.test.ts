import { expect, it } from 'vitest'
import { ShapeSettings } from '~/contract/shape'
import { addressKinds } from '../address/kinds'
import { beyond } from '../publication/beyond'
import { framed, framing, isFramed, unframing } from './framed'

it('a frame is the octet 0 and the number of the schema, the high octet first', () => {
  expect([...framed(0x01020304, '{}')]).toEqual([0, 1, 2, 3, 4, 0x7b, 0x7d])
  expect([...framed(7, Uint8Array.of(9))]).toEqual([0, 0, 0, 0, 7, 9])
  const encode = framing(() => ({ at: 1, payload: 'ü', headers: [['a', 'b']] }), 2 ** 31 - 1)
  expect(encode({ parts: [], now: 0, seq: 1, whole: true })).toEqual({
    at: 1,
    payload: Uint8Array.of(0, 0x7f, 0xff, 0xff, 0xff, 0xc3, 0xbc),
    headers: [['a', 'b']],
  })
  expect(framing(() => null, 1)({ parts: [], now: 0, seq: 1, whole: true })).toBeNull()
})

it('what has none, or that of another schema, is told where', () => {
  const decode = unframing((bytes) => ({ kind: String(bytes.length), at: null, readings: [] }), 7)
  expect(decode(framed(7, '{}'))).toMatchObject({ kind: '2' })
  expect(decode(framed(8, '{}'))).toEqual({ problem: 'It is of the schema 8, not 7', at: 1 })
  for (const octets of [Uint8Array.of(), Uint8Array.of(0, 0, 0, 0), Uint8Array.of(0x7b, 0, 0, 0, 7, 1)])
    expect(decode(octets)).toMatchObject({ at: 0, problem: expect.stringContaining('number of a schema') })
  // A piece of a larger buffer.
  const large = new Uint8Array([1, 2, ...framed(7, '{}')])
  expect(decode(large.subarray(2))).toMatchObject({ kind: '2' })
})

it('only a stream that names a registry takes it, and without compression as a whole', () => {
  const shape = ShapeSettings.parse({ kind: 'flat-json', framing: 'registry' })
  const said = (kind: 'stream' | 'mqtt' | 'http', settings: object, of: ShapeSettings = shape) =>
    beyond({ address: addressKinds[kind].fresh, shape: of }, { name: 'x', kind, settings } as never).map((f) => `${f.severity}: ${f.message}`)
  expect(isFramed(shape)).toBe(true)
  expect(isFramed(ShapeSettings.parse({ kind: 'flat-json' }))).toBe(false)
  expect(said('stream', { registryUrl: 'https://schemas.example' })).toEqual([])
  expect(said('stream', {})).toEqual([expect.stringContaining('stops: The destination names no schema registry')])
  expect(said('mqtt', { protocol: '5' })).toEqual([expect.stringContaining('stops: Only a stream has a registry')])
  expect(said('http', { batch: 'one' })).toEqual([expect.stringContaining('stops: Only a stream has a registry')])
  const packed = ShapeSettings.parse({ kind: 'avro', framing: 'registry', compression: 'gzip' })
  expect(said('stream', { registryUrl: 'https://schemas.example' }, packed)).toEqual([expect.stringContaining('stops: A payload that is compressed')])
})
