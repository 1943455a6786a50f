// Every message of a publication against what its receivers were handed, and odd values through every shape.
import Ajv2020 from 'ajv/dist/2020'
import avro from 'avsc'
import { describe, expect, it } from 'vitest'
import type { PlanEquipment } from '~/contract/publication'
import type { ShapeInput } from '~/contract/shape'
import type { DataType } from '~/contract/tag'
import { alike, contractOf } from '../publication/contract'
import { type Addressed, Runner } from '../publication/runner'
import type { Scalar } from '../value/deadband'
import { Status } from '../value/quality'
import { decoderOf, scopeOf, shapeKinds } from './registry'
import { dryer, kiln, member, planOf } from './shape-samples'

const NOW = Date.UTC(2026, 2, 4)
const tag = (handle: number) => ({ fill: { kind: 'tag' as const, handle, width: 0, factor: 1, offset: 0 } })
const host = { name: 'edge', version: '1', startedAt: 0 }

const zones: PlanEquipment[] = [1, 2, 3].map((n) => ({
  ...kiln,
  id: `zone ${n}`,
  name: `Zone "${n}"`,
  path: ['Varnmoor', `Firing ${n}`, `Zone "${n}"`],
  className: 'Kiln Zone',
  members: [
    member('temperature', 'number', { ...tag(1), unit: '°C' }),
    member('probes.0', 'number', tag(2)),
    member('probes.2', 'number', tag(3)),
    member('order', 'text', tag(4)),
  ],
}))
const other: PlanEquipment = { ...dryer, members: [member('damper', 'integer', tag(5)), member('product', 'text', tag(4))] }

const octets = (p: string | Uint8Array) => (typeof p === 'string' ? new TextEncoder().encode(p) : p)

const inputs: ShapeInput[] = shapeKinds.flatMap((kind): ShapeInput[] => {
  if (kind === 'template') return [{ kind, body: '{"t": ${temperature}}' }]
  const own = [{ kind } as ShapeInput]
  if (kind === 'cloudevents') own.push({ kind, mode: 'binary', data: 'flat' })
  if (kind === 'nested-json' || kind === 'pubsub-json' || kind === 'pubsub-uadp' || kind === 'rows') own.push({ kind, per: 'publication' })
  if (kind === 'nested-json') own.push({ kind, bad: 'left-out', nulls: 'left-out', members: 'changed' })
  if (kind === 'rows') own.push({ kind, rows: 'wide' })
  return own
})

describe.each(inputs.map((i) => [JSON.stringify(i), i] as const))('%s', (_, input) => {
  const equipment = input.kind === 'template' ? zones : [...zones, other]
  const plan = planOf(input, equipment)
  const runner = new Runner(plan, host)
  const ajv = new Ajv2020({ strict: false, formats: { 'date-time': true, 'uri-reference': true } })
  const groups = alike(plan).map((g) => ({ ...g, check: g.language === 'schema' ? ajv.compile(g.description as object) : null }))
  const read = (values: Scalar[], statuses: number[] = []) => {
    const from = { value: [null, ...values], status: [0, ...values.map((_, i) => statuses[i] ?? 0)], time: [0, ...values.map(() => NOW)] }
    for (const cells of runner.cellsOfEquipment) for (const c of cells) c.read(from, NOW)
  }
  const holds = (n: number, out: Addressed) => {
    const group = groups.find((g) => g.places.includes(n))!
    if (group.check && typeof out.payload === 'string')
      expect(group.check(JSON.parse(out.payload)), `message ${n}: ${JSON.stringify(group.check.errors)} ${out.payload}`).toBe(true)
    if (group.language === 'avro') {
      const type = avro.Type.forSchema(group.description as never, { wrapUnions: false })
      expect(type.isValid(type.fromBuffer(Buffer.from(octets(out.payload).subarray(10))))).toBe(true)
    }
    const given = new Map(out.headers)
    for (const [name, value] of group.headers) {
      expect(given.has(name), name).toBe(true)
      if (value !== null) expect(given.get(name)).toBe(value)
    }
  }

  it('each message is as its receivers were told, whatever its equipment', () => {
    for (const [values, statuses] of [
      [[1, 2, 3, 'FC-12', 7], []],
      [
        [1.5, null, 3, '', 7],
        [0, Status.outOfRange],
      ],
      [
        [null, 2, null, 'x', 7],
        [0x808c0000, 0, Status.stale],
      ],
    ] as [Scalar[], number[]][]) {
      read(values, statuses)
      plan.messages.forEach((_, n) => {
        const out = runner.encode(n, NOW, 100 + n)
        if (!out) return
        holds(n, out)
        for (const b of out.before ?? []) {
          const { before } = groups.find((g) => g.places.includes(n))!
          expect(before).not.toBeNull()
          if (before!.language === 'schema') {
            const check = ajv.compile(before!.description as object)
            expect(check(JSON.parse(b.payload as string)), JSON.stringify(check.errors)).toBe(true)
          }
          const levels = before!.topics.map((t) => new RegExp(`^${t.replace('#', '.+')}$`))
          expect(
            levels.some((l) => l.test(b.place)),
            b.place,
          ).toBe(true)
        }
      })
    }
  })

  it('every message belongs to one description', () => {
    expect(contractOf(plan, () => null).messages.reduce((n, m) => n + m.topicCount, 0)).toBe(plan.messages.length)
  })
})

/** One member through a shape: what was read back. */
function through(input: ShapeInput, dataType: DataType, value: Scalar, status = 0, time = NOW) {
  const key = dataType === 'text' ? 'order' : 'value'
  const plan = planOf(input, [{ ...kiln, members: [member(key, dataType, tag(1)), member('still', 'number', tag(2))] }])
  const runner = new Runner(plan, host)
  const from = { value: [null, value, 1], status: [0, status, 0], time: [0, time, time] }
  for (const cell of runner.cellsOfEquipment[0]!) cell.read(from, NOW)
  const out = runner.encode(0, NOW, 1)!
  const decoded = decoderOf(plan.shape, scopeOf(plan, plan.messages[0]!))(octets(out.payload), Object.fromEntries(out.headers))
  if ('problem' in decoded) throw new Error(decoded.problem)
  return { at: out.at, decoded, reading: decoded.readings.find((r) => r.member === key)! }
}
const values: ShapeInput[] = inputs
  .filter((i) => i.kind !== 'device-facts' && !('per' in i) && !('bad' in i))
  .map((i) => (i.kind === 'template' ? { ...i, body: '{"at":"${at}","v":${value},"w":"${value.time}"}' } : i))
const texts = values.map((i) => (i.kind === 'template' ? { ...i, body: '{"v":"${order}"}' } : i))

describe.each(values.map((i) => [JSON.stringify(i), i] as const))('%s', (_, input) => {
  it.each([
    '1931-05-06T07:08:09.123Z',
    '1969-12-31T23:59:59.999Z',
    '1970-01-01T00:00:00.000Z',
    '2100-01-01T00:00:00.000Z',
    '2261-04-11T23:47:16.854Z',
  ])('a device time of %s stays what it is', (iso) => {
    const time = Date.parse(iso)
    const { at, decoded, reading } = through(input, 'number', 4.5, 0, time)
    expect(at).toBe(time)
    if (decoded.at !== null && input.kind !== 'sparkplug-b') expect(decoded.at).toBe(time)
    if (reading.time !== null) expect(reading.time).toBe(time)
    expect(reading.value).toBe(4.5)
    // As a value too.
    const told = through(input.kind === 'template' ? { ...input, body: '{"v":"${value}"}' } : input, 'time', iso).reading
    expect(told).toMatchObject({ value: iso, quality: 'good' })
  })

  it('minus zero is zero', () => {
    for (const type of ['number', 'integer'] as const) {
      expect(Object.is(through(input, type, -0).reading.value, 0)).toBe(true)
    }
  })

  it('a bad value carries no old one, unless that was chosen', () => {
    const { reading } = through(input, 'number', 4.5, 0x808c0000)
    expect(reading.value).toBeNull()
  })
})

it.each(texts.map((i) => [JSON.stringify(i), i] as const))('half a character is U+FFFD, and uncertain: %s', (_, input) => {
  const { reading } = through(input, 'text', 'a\ud800b')
  expect(reading.value).toBe('a\ufffdb')
  if (input.kind !== 'value' && input.kind !== 'template') expect(reading.quality).toBe('uncertain')
  expect(through(input, 'text', 'a\u{1f525}b').reading).toMatchObject({ value: 'a\u{1f525}b', quality: 'good' })
})

describe('lists keep their places', () => {
  const nested = (input: ShapeInput, values: Scalar[], then: Scalar[] = values) => {
    const plan = planOf(input, [zones[0]!])
    const runner = new Runner(plan, host)
    const from = { value: [null, ...values], status: [0, 0, 0, 0, 0], time: [0, NOW, NOW, NOW, NOW] }
    for (const c of runner.cellsOfEquipment[0]!) c.read(from, NOW)
    const first = runner.encode(0, NOW, 1)!
    from.value = [null, ...then]
    for (const c of runner.cellsOfEquipment[0]!) c.read(from, NOW)
    return [first, runner.encode(0, NOW, 2)].map((m) => m && (JSON.parse(m.payload as string) as { probes?: unknown[] }).probes)
  }
  it('a place that no member has is no value', () => {
    expect(nested({ kind: 'nested-json' }, [1, 20, 22, 'x'])[0]).toEqual([20, null, 22])
  })
  it('of a list of values everything goes when one of them changed', () => {
    const how: ShapeInput = { kind: 'nested-json', members: 'changed', fullEvery: 0 }
    expect(nested(how, [1, 20, 22, 'x'], [1, 20, 23, 'x'])[1]).toEqual([20, null, 23])
    expect(nested(how, [1, 20, 22, 'x'], [2, 20, 22, 'x'])[1]).toBeUndefined()
  })
})
