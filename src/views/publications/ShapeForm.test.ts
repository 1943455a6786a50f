import { expect, it } from 'vitest'
import { ShapeSettings } from '~/contract/shape'
import { turnedInto } from './ShapeForm'

it('a shape that is turned into another keeps what both have, and of its frame only that of a registry', () => {
  const flat = ShapeSettings.parse({ kind: 'flat-json', bad: 'left-out', subject: '{class}' })
  expect(turnedInto('avro', flat, null)).toMatchObject({ kind: 'avro', framing: 'single-object', bad: 'left-out', subject: '{class}' })
  const avro = ShapeSettings.parse({ kind: 'avro', bad: 'left-out' })
  expect(turnedInto('nested-json', avro, null)).toMatchObject({ kind: 'nested-json', framing: 'plain', bad: 'left-out' })
  for (const kind of ['flat-json', 'nested-json'] as const)
    expect(turnedInto(kind, { ...avro, framing: 'registry' } as ShapeSettings, null)).toMatchObject({ framing: 'registry' })
  expect(turnedInto('cbor', { ...avro, framing: 'registry' } as ShapeSettings, null)).not.toHaveProperty('framing')
})
