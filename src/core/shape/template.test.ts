import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { ShapeSettings } from '~/contract/shape'
import { fillParts } from '../address/template'
import type { Scalar } from '../value/deadband'
import { encoderOf, shapes } from './registry'
import { cell, kiln, member, part, scope } from './shape-samples'
import { cutBody, templateFaults } from './template'

const one = {
  ...kiln,
  name: 'Kiln "7"',
  members: [member('t'), member('n', 'integer'), member('on', 'boolean'), member('s', 'text'), member('w', 'time')],
}
const how = (body: string, part = {}) => {
  const parsed = ShapeSettings.parse({ kind: 'template', body, ...part })
  if (parsed.kind !== 'template') throw new Error('no template')
  return parsed
}
const faults = (body: string, part = {}) => templateFaults(how(body, part), one)

/** Values that a source may give. */
const values: Record<string, fc.Arbitrary<Scalar>> = {
  t: fc.oneof(fc.double(), fc.constantFrom(-0, Number.NaN, Number.POSITIVE_INFINITY, 1e300, -5, 5e-324)),
  n: fc.oneof(fc.maxSafeInteger(), fc.bigInt({ min: -(2n ** 63n), max: 2n ** 64n - 1n })),
  on: fc.boolean(),
  s: fc.oneof(fc.string({ unit: 'binary' }), fc.constantFrom('"', '\\', '"},{', '\n', '\u2028', '')),
  w: fc.constantFrom('2026-03-04T14:07:12.481Z', '1931-05-06T00:00:00.000Z'),
}
const cells = fc.tuple(
  ...one.members.map((m) => fc.tuple(fc.option(values[m.key]!), fc.constantFrom(0, 0x40900000, 0x808c0000)).map(([v, s]) => cell(v, s))),
)

const placeholder = fc.constantFrom(
  '${t}',
  '${n}',
  '${on}',
  '${s}',
  '${w}',
  '${at}',
  '${now}',
  '${seq}',
  '${equipment}',
  '${s.reason}',
  '${t.age}',
  '${w.time}',
  '${s|upper}',
  '${t.unit}',
)
const body = fc
  .array(fc.oneof(placeholder, fc.constantFrom('{', '}', '[', ']', '"', ':', ',', '"a":', '-', '1', '.', 'e', ' ', 'null', '\\', 'x')), {
    minLength: 1,
    maxLength: 9,
  })
  .map((p) => p.join(''))
const framed = fc
  .array(placeholder, { minLength: 1, maxLength: 4 })
  .map((p) => `{${p.map((x, i) => `"k${i}": ${x}`).join(', ')}, "in": "<${p.join('|')}>"}`)

describe('a free template', () => {
  it('what the check accepts runs, and is JSON whatever the values', () => {
    let accepted = 0
    fc.assert(
      fc.property(
        fc.oneof(body, framed),
        cells,
        fc.constantFrom('null', 'text'),
        fc.constantFrom('iso', 'epoch-ms'),
        (text, all, nonFinite, time) => {
          const settings = how(text, { nonFinite, time })
          if (templateFaults(settings, one).length > 0) return
          accepted++
          const out = encoderOf(settings, scope([one]))({ parts: [part(all)], now: 1_772_633_232_481, seq: 7, whole: true })!
          expect(() => JSON.parse(out.payload as string), `${text} gave ${out.payload}`).not.toThrow()
        },
      ),
      { numRuns: 3000 },
    )
    expect(accepted).toBeGreaterThan(500)
  })

  it.each([
    ['{"a":-${t}}', 5, '▸-'],
    ['{"a":1${t}}', 6, '▸-1.5'],
    ['{"a": }', 6, '▸}'],
    ['{"a": ${t} "b": 1}', 11, '▸"b"'],
    ['{"a":"\\${s}"}', 5, '▸'],
    ['{${s}: 1}', 1, '▸null'],
  ])('%s is told with its place and the text as it reads filled in', (text, at, shown) => {
    const [fault, ...more] = faults(text)
    expect(more).toEqual([])
    expect(fault!.message).toContain(shown)
    expect(fault!.message).toContain('which is no JSON')
    expect(Math.abs(fault!.at - at)).toBeLessThanOrEqual(2)
  })

  it('of messages about one member every type is tried', () => {
    expect(faults('{"v": 1${value}}', { per: 'member' })).toHaveLength(1)
    expect(faults('{"v": ${value}}', { per: 'member' })).toEqual([])
  })

  it('of thousands of equipment of one kind one is tried', () => {
    const many = Array.from({ length: 20_000 }, (_, i) => ({ ...one, id: `e${i}`, name: `Kiln ${i}` }))
    const problems = shapes.template.problems!
    const long = `{"a":[${'${t},'.repeat(3900)}0]}`
    expect(problems(how(long) as never, many)).toEqual([])
    expect(problems(how('{"a":${other}}') as never, [...many, { ...one, members: [member('other')] }])).toEqual([
      '${other} is nothing that Tunnel Kiln has',
    ])
  })

  it('filters behind each other do not grow a text without end', () => {
    const { parts, problems } = cutBody(`\${s${"|replace('a','aaaaaaaaaa')".repeat(30)}}`)
    expect(problems).toEqual([])
    expect(fillParts(parts, () => 'aaaa').text.length).toBeLessThanOrEqual(65_536)
    const last = cutBody('${s|number}').parts
    expect(fillParts(last, () => `${'1a'.repeat(100_000)}7x`).text).toBe('7')
  })
})
