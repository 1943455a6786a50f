import Ajv2020 from 'ajv/dist/2020'
import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import type { PlanEquipment } from '~/contract/publication'
import type { ShapeInput } from '~/contract/shape'
import type { DataType } from '~/contract/tag'
import type { Cell } from '../publication/cells/cell'
import type { Scalar } from '../value/deadband'
import { qualityOf, reasonOf, Status } from '../value/quality'
import { decoderOf, describe as description, encoderOf, shapeKinds, shapeOf } from './registry'
import type { Decoded, DecodedMessage } from './shape'
import { cell, dryer, kiln, part, scope, settings, T0 } from './shape-samples'

const bytes = (payload: string | Uint8Array) => (typeof payload === 'string' ? new TextEncoder().encode(payload) : payload)
const read = (d: Decoded): DecodedMessage => {
  if ('problem' in d) throw new Error(`${d.problem} at ${d.at}`)
  return d
}

/** Everything that a shape can be set to, over and over. */
const body = `{"t":\${temperature},"q":"\${temperature.quality}","at":"\${at}","c":\${cars},"b":\${burning},"k":"x \${curve} y","z":[\${zones.0.temperature}],"name":"\${equipment}"}`
const variants: ShapeInput[] = [
  { kind: 'flat-json' },
  { kind: 'flat-json', time: 'epoch-ms', nonFinite: 'text', wholes: 'text' },
  { kind: 'flat-json', time: 'local', zone: 'America/St_Johns', bad: 'last-good' },
  { kind: 'flat-json', time: 'epoch-s', bad: 'left-out', nulls: 'left-out' },
  { kind: 'nested-json' },
  { kind: 'nested-json', bad: 'left-out', nulls: 'left-out', time: 'local', zone: 'Asia/Kathmandu' },
  { kind: 'nested-json', per: 'publication' },
  { kind: 'value' },
  { kind: 'value', time: 'epoch-ms', nonFinite: 'text' },
  { kind: 'value-quality-time', valueName: 'v', qualityName: 'q', timeName: 't', unitName: 'u' },
  { kind: 'template', body },
  { kind: 'template', per: 'member', body: '{"v":${value},"q":"${quality}","why":"${reason}","t":"${time}","n":"${member}"}' },
  { kind: 'rows' },
  { kind: 'rows', rows: 'wide', per: 'publication' },
  { kind: 'rows', form: 'csv', per: 'publication' },
  { kind: 'rows', form: 'csv', rows: 'wide', time: 'epoch-ms' },
  { kind: 'rows', apart: true },
  { kind: 'sparkplug-b' },
  { kind: 'sparkplug-b', aliases: false },
  { kind: 'pubsub-json' },
  { kind: 'pubsub-json', per: 'publication', members: 'changed' },
  { kind: 'pubsub-uadp' },
  { kind: 'pubsub-uadp', fields: 'variant' },
  { kind: 'pubsub-uadp', per: 'publication', members: 'changed' },
  { kind: 'cloudevents' },
  { kind: 'cloudevents', mode: 'binary', data: 'flat' },
  { kind: 'avro' },
  { kind: 'avro', framing: 'plain', bad: 'last-good' },
  { kind: 'cbor' },
  { kind: 'cbor', time: 'epoch-s', nulls: 'left-out' },
  { kind: 'messagepack' },
  { kind: 'messagepack', time: 'epoch-ms', bad: 'last-good' },
  { kind: 'device-facts' },
]

it('has a case for every shape', () => expect(new Set(variants.map((v) => v.kind))).toEqual(new Set(shapeKinds)))

/** A value of a type, as a source might give it. */
const anyOf: Record<DataType, fc.Arbitrary<Scalar>> = {
  number: fc.oneof(fc.double({ noNaN: true, noDefaultInfinity: true }), fc.constantFrom(0, -0.5, 689.6, 1e-7, 1e21, 5e-324)),
  integer: fc.oneof(fc.maxSafeInteger(), fc.constantFrom(0, 127, 128, 255, 256, 65_535, 65_536, -1, -32, -33, -129, 2 ** 32, -(2 ** 31))),
  boolean: fc.boolean(),
  text: fc.oneof(fc.string({ unit: 'grapheme', maxLength: 70 }), fc.constantFrom('a "b", {c}\n', '\\', 'true', '12', 'ü'.repeat(40))),
  time: fc.integer({ min: 0, max: 4e12 }).map((t) => new Date(t).toISOString()),
}
const statuses = [0, 0, 0, 0, Status.stale, 0x40930000, 0x808c0000, Status.noAnswer]
const cells = (one: PlanEquipment): fc.Arbitrary<Cell[]> =>
  fc.tuple(
    ...one.members.map((m) =>
      fc
        .tuple(anyOf[m.dataType], fc.constantFrom(...statuses), fc.integer({ min: T0 - 1e6, max: T0 }), anyOf[m.dataType], fc.boolean())
        .map(([value, status, time, good, had]) =>
          cell(status >>> 31 === 1 ? null : value, status, time, had ? good : null, had ? time - 5000 : Number.NaN),
        ),
    ),
  )

const same = (a: unknown, b: unknown) => Object.is(a, b) || (a === 0 && b === 0)

describe.each(variants.map((v) => [JSON.stringify(v).slice(0, 90), v] as const))('%s', (_, input) => {
  const how = settings(input)
  const shape = shapeOf(how)
  const grouping = shape.grouping(how as never)
  const equipment = grouping === 'publication' ? [kiln, dryer] : [kiln]
  const ajv = new Ajv2020({ strict: false, validateFormats: false })

  it('reads back what it wrote', () => {
    fc.assert(
      fc.property(cells(kiln), cells(dryer), fc.nat(1e6), fc.nat(kiln.members.length - 1), (one, two, seq, only) => {
        const single = grouping === 'member'
        const about = scope(single ? [{ ...kiln, members: [kiln.members[only]!] }] : equipment)
        const parts = single ? [part([one[only]!])] : grouping === 'publication' ? [part(one), part(two)] : [part(one)]
        const encoded = encoderOf(how, about)({ parts, now: T0, seq, whole: true })
        if (!encoded) return
        const out = read(decoderOf(how, about)(bytes(encoded.payload), encoded.headers && Object.fromEntries(encoded.headers)))
        if (how.kind === 'device-facts') {
          expect(out.readings).toContainEqual(expect.objectContaining({ equipment: kiln.name, member: 'serial', value: 'VK-7' }))
          return
        }
        for (const r of out.readings) {
          const e = r.equipment === null ? 0 : about.equipment.findIndex((x) => x.name === r.equipment)
          const i = about.equipment[e]!.members.findIndex((m) => m.key === r.member)
          const m = about.equipment[e]!.members[i]!
          const c = parts[e]!.cells[i]!
          const bad = qualityOf(c.status) === 'bad'
          const lastGood = 'bad' in how && how.bad === 'last-good'
          const wanted = bad ? (lastGood && !Number.isNaN(c.goodTime) ? c.goodValue : null) : c.value
          // What the format cannot tell apart: nothing and an empty text, where there are only texts.
          const blurred =
            (how.kind === 'value' || (how.kind === 'rows' && how.form === 'csv') || how.kind === 'template') && (wanted === null || wanted === '')
          if (!blurred)
            expect(
              same(r.value, wanted) || (m.dataType === 'time' && how.kind === 'value'),
              `${m.key}: ${String(r.value)} for ${String(wanted)}`,
            ).toBe(true)
          const tells = !(how.kind === 'value' || how.kind === 'template' || (how.kind === 'pubsub-uadp' && how.fields === 'variant'))
          if (tells && how.kind !== 'sparkplug-b') expect(r.quality, m.key).toBe(qualityOf(c.status))
          if (tells && how.kind !== 'sparkplug-b' && c.status !== 0 && !how.kind.startsWith('pubsub')) expect(r.reason).toBe(reasonOf(c.status))
          if (how.kind === 'sparkplug-b') expect(r.quality === 'bad').toBe(bad)
        }
        const told = new Set(out.readings.map((r) => `${r.equipment ?? about.equipment[0]!.name} ${r.member}`))
        const hides = 'bad' in how && (how.bad === 'left-out' || ('nulls' in how && how.nulls === 'left-out'))
        if (!hides && how.kind !== 'template') expect(told.size).toBe(parts.reduce((n, p) => n + p.cells.length, 0))
        // The contract holds for the message.
        const contract = description(how, about)
        if (contract.language === 'schema' && !['cbor', 'messagepack'].includes(how.kind)) {
          const validate = ajv.compile({ ...(contract.content as object), $id: undefined })
          expect(validate(JSON.parse(encoded.payload as string)), JSON.stringify(validate.errors)).toBe(true)
        }
      }),
      { numRuns: 60 },
    )
  })

  it('answers anything else with a reason, soon', () => {
    const about = scope(grouping === 'member' ? [{ ...kiln, members: [kiln.members[0]!] }] : equipment)
    const decode = decoderOf(how, about)
    const whole = encoderOf(how, about)({ parts: about.equipment.map((e) => part(e.members.map(() => cell(1)))), now: T0, seq: 1, whole: true })
    const good = bytes(whole?.payload ?? '')
    fc.assert(
      fc.property(
        fc.oneof(
          fc.uint8Array({ maxLength: 300 }),
          // Something right with octets changed, cut or added.
          fc
            .tuple(fc.array(fc.tuple(fc.nat(Math.max(0, good.length - 1)), fc.nat(255)), { maxLength: 5 }), fc.nat(good.length + 4))
            .map(([changes, length]) => {
              const b = new Uint8Array(length)
              b.set(good.subarray(0, length))
              for (const [at, value] of changes) if (at < length) b[at] = value
              return b
            }),
          fc.json().map((t) => new TextEncoder().encode(t)),
        ),
        (b) => {
          const out = decode(b, {})
          if ('problem' in out) expect(out.problem).not.toBe('')
          else expect(out.readings.length).toBeLessThan(1000)
        },
      ),
      { numRuns: 300 },
    )
    for (const hostile of ['['.repeat(200_000), '{"a":'.repeat(50_000), '\u00ff'.repeat(10), '9'.repeat(100_000), '{"__proto__":{"x":1}}'])
      expect(() => decode(new TextEncoder().encode(hostile), {})).not.toThrow()
    // Heads that promise more than there is: lists, maps and texts of four thousand million.
    for (const head of [
      [0x9a, 255, 255, 255, 255],
      [0xba, 255, 255, 255, 255],
      [0x7b, 255, 255, 255, 255, 255, 255, 255, 255],
      [0xdd, 255, 255, 255, 255],
      [0xdf, 255, 255, 255, 255],
      [0xdb, 255, 255, 255, 255],
      [0xc3, 1],
    ])
      expect(() => decode(Uint8Array.from(head), {})).not.toThrow()
    for (const nest of [0x81, 0x91, 0xd8, 0xc1, 0x9f, 0xbf]) expect(() => decode(new Uint8Array(100_000).fill(nest), {})).not.toThrow()
  })

  it('says in one line what it is, and has a content type', () => {
    expect(shape.summary(how as never)).not.toBe('')
    expect(shape.contentType(how as never)).toMatch(/^[a-z]+\/[a-z0-9.+-]+/)
    expect(shape.problems?.(how as never, equipment) ?? []).toEqual([])
  })
})
