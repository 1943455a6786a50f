import { decode as unpack } from '@msgpack/msgpack'
import avro from 'avsc'
import cbor from 'cbor'
import { describe, expect, it } from 'vitest'
import type { PlanMember } from '~/contract/publication'
import type { ShapeInput } from '~/contract/shape'
import { Runner } from '../publication/runner'
import { sizeOf, wholeFindings } from '../publication/whole-findings'
import type { Scalar } from '../value/deadband'
import { decoderOf, scopeOf, shapeKinds, shapeOf } from './registry'
import { kiln, member, planOf, settings } from './shape-samples'
import { published } from './sparkplug-published'

const MOST = 2n ** 63n - 1n
const signed = [MOST, MOST - 1n, 2n ** 53n + 1n, 2n ** 53n, -(2n ** 53n) - 1n, -(2n ** 63n)]
const unsigned = [2n ** 63n, 2n ** 64n - 1n]

/** What an engine would send of one integer member whose tag has this value now. */
function sent(input: ShapeInput, value: Scalar, part: Partial<PlanMember> = {}) {
  const plan = planOf(input, [{ ...kiln, members: [member('cars', 'integer', part)] }])
  const runner = new Runner(plan, { name: 'edge', version: '1', startedAt: 0 })
  const now = Date.UTC(2026, 2, 4)
  for (const cell of runner.cellsOfEquipment[0]!) cell.read({ value: [null, value], status: [0, 0], time: [0, now] }, now)
  const out = runner.encode(0, now, 1)!
  const payload = typeof out.payload === 'string' ? new TextEncoder().encode(out.payload) : out.payload
  const read = decoderOf(plan.shape, scopeOf(plan, plan.messages[0]!))(payload, Object.fromEntries(out.headers ?? []))
  if ('problem' in read) throw new Error(read.problem)
  return { text: new TextDecoder().decode(payload), payload, reading: read.readings[0]! }
}

const inputs: ShapeInput[] = shapeKinds
  .filter((kind) => kind !== 'device-facts')
  .map((kind) => (kind === 'template' ? { kind, body: '{"cars": ${cars}, "q": "${cars.quality}"}' } : ({ kind } as ShapeInput)))

describe.each(inputs.map((i) => [i.kind, i] as const))('%s', (kind, input) => {
  it('carries whole numbers up to 2^63 - 1 to the last digit', () => {
    for (const n of signed) expect(sent(input, n).reading).toMatchObject({ value: n, quality: 'good' })
  })

  it('carries larger ones, or says that they are out of its range', () => {
    const holds = shapeOf(settings(input)).wholes !== 'signed-64'
    for (const n of unsigned) {
      const { value, quality, reason } = sent(input, n).reading
      expect([value, quality], String(n)).toEqual([holds ? n : null, holds ? 'good' : 'bad'])
      if (!holds && kind !== 'pubsub-uadp') expect(reason).toContain('out of range')
    }
  })
})

describe('as other readers see them', () => {
  it.each(signed)('%d', (n) => {
    expect(BigInt(cbor.decodeFirstSync(Buffer.from(sent({ kind: 'cbor' }, n).payload)).cars)).toBe(n)
    expect((unpack(sent({ kind: 'messagepack' }, n).payload, { useBigInt64: true }) as { cars: bigint }).cars).toBe(n)
    const metrics = published.toObject(published.decode(sent({ kind: 'sparkplug-b' }, n).payload), { longs: String }) as {
      metrics: { longValue: string }[]
    }
    expect(BigInt.asIntN(64, BigInt(metrics.metrics[0]!.longValue))).toBe(n)
    const long = avro.types.LongType.__with({
      fromBuffer: (b: Buffer) => b.readBigInt64LE(),
      toBuffer: (v: bigint) => {
        const b = Buffer.alloc(8)
        b.writeBigInt64LE(v)
        return b
      },
      fromJSON: BigInt,
      toJSON: String,
      isValid: (v: unknown) => typeof v === 'bigint',
      compare: (a: bigint, b: bigint) => (a < b ? -1 : a > b ? 1 : 0),
    } as never)
    const schema = {
      type: 'record',
      name: 'x',
      fields: [
        { name: 'at', type: 'long' },
        { name: 'cars', type: ['null', 'long'] },
        { name: 'quality', type: { type: 'map', values: 'string' } },
      ],
    }
    const type = avro.Type.forSchema(schema as never, { wrapUnions: false, registry: { long } } as never)
    expect((type.fromBuffer(Buffer.from(sent({ kind: 'avro', framing: 'plain' } as ShapeInput, n).payload)) as { cars: bigint }).cars).toBe(n)
    expect(sent({ kind: 'flat-json' }, n).text).toContain(`"cars":${n}`)
    expect(sent({ kind: 'flat-json', wholes: 'text' }, n).text).toContain(n > -(2n ** 53n) && n < 2n ** 53n ? `"cars":${n}` : `"cars":"${n}"`)
    expect(sent({ kind: 'pubsub-json' }, n).text).toContain(`"Value":"${n}"`)
  })
})

describe('what rounds them here', () => {
  const reading = (part: Partial<PlanMember>, n = MOST) => sent({ kind: 'flat-json' }, n, part).reading
  const tag = { kind: 'tag' as const, handle: 1, width: 0, factor: 1, offset: 0 }

  it('makes them uncertain: a member of numbers, a conversion, an expression', () => {
    expect(reading({ dataType: 'number' })).toMatchObject({ value: Number(MOST), quality: 'uncertain', reason: 'sub-normal' })
    expect(reading({ dataType: 'integer', fill: { ...tag, factor: 0.001 } }).quality).toBe('uncertain')
    expect(reading({ dataType: 'number', fill: { ...tag, factor: 1e300 } }).quality).toBe('uncertain')
    const inputs = [{ name: 'n', dataType: 'integer' as const, fill: tag }]
    expect(reading({ fill: { kind: 'expression', text: 'n + 1', inputs, factor: 1, offset: 0 } }).quality).toBe('uncertain')
  })

  it('leaves alone what a double holds, and texts', () => {
    expect(reading({ dataType: 'number' }, 2n ** 60n)).toMatchObject({ value: 2 ** 60, quality: 'good' })
    expect(reading({ dataType: 'text' })).toMatchObject({ value: String(MOST), quality: 'good' })
  })
})

describe('the findings before a go-live', () => {
  const of = (input: ShapeInput, size: 0 | 1 | 2, part: Partial<PlanMember> = {}) =>
    wholeFindings(settings(input), [{ ...kiln, members: [member('cars', 'integer', part)] }], () => size).map((f) => f.message)

  it('say what receivers will not get as it was', () => {
    expect(of({ kind: 'pubsub-uadp' }, 2)).toEqual([expect.stringContaining('beyond 2^63 - 1')])
    expect(of({ kind: 'pubsub-uadp' }, 1)).toEqual([])
    expect(of({ kind: 'flat-json' }, 1)).toEqual([expect.stringContaining('readers of JSON round')])
    expect(of({ kind: 'flat-json', wholes: 'text' }, 2)).toEqual([])
    expect(of({ kind: 'cbor' }, 2)).toEqual([])
    expect(of({ kind: 'cbor' }, 1, { dataType: 'number' })).toEqual([expect.stringContaining('rounded beyond 2^53')])
    expect(of({ kind: 'flat-json' }, 0)).toEqual([])
  })

  it('know from the value, the range or the registers how large a tag may get', () => {
    const integer = { dataType: 'integer' as const, address: 'x', range: null }
    expect(sizeOf(integer, 7)).toBe(0)
    expect(sizeOf(integer, MOST)).toBe(1)
    expect(sizeOf(integer, 2n ** 63n)).toBe(2)
    expect(sizeOf({ ...integer, range: { low: 0, high: 1e17 } }, 7)).toBe(1)
    expect(sizeOf({ ...integer, address: '1 holding@0 uint64' }, 7)).toBe(2)
    expect(sizeOf({ ...integer, address: '1 holding@0 int64' }, null)).toBe(1)
    expect(sizeOf({ ...integer, address: '1 holding@0 uint64', range: { low: 0, high: 1000 } }, 7)).toBe(0)
    expect(sizeOf({ ...integer, dataType: 'number', address: '1 holding@0 uint64' }, 7)).toBe(0)
  })
})
