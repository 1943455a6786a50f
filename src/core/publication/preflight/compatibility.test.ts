import Ajv from 'ajv/dist/2020'
import { describe, expect, it } from 'vitest'
import { breaksOf } from './compatibility'

const object = (properties: Record<string, unknown>, required = Object.keys(properties), closed = true) => ({
  type: 'object',
  properties,
  required,
  ...(closed && { additionalProperties: false }),
})
const number = { type: ['number', 'null'] }

describe('what readers of a schema were not told of', () => {
  it.each([
    ['nothing differs', object({ a: number }), object({ a: number }), ''],
    ['a type is narrower', object({ a: { type: ['number', 'string', 'null'] } }), object({ a: number }), ''],
    ['whole numbers for numbers', object({ a: { type: 'number' } }), object({ a: { type: 'integer' } }), ''],
    ['numbers for whole numbers', object({ a: { type: 'integer' } }), object({ a: { type: 'number' } }), 'a may be number, was integer'],
    ['text for numbers', object({ a: number }), object({ a: { type: 'string' } }), 'a may be string, was number or null'],
    ['any type', object({ a: number }), object({ a: {} }), 'a may be of any type, was number or null'],
    ['it could be anything', object({ a: {} }), object({ a: number }), ''],
    ['a new member in a closed object', object({ a: number }), object({ a: number, b: number }), 'b is new, which the old schema does not allow'],
    ['a new member in an open object', object({ a: number }, ['a'], false), object({ a: number, b: number }, ['a'], false), ''],
    ['a member is gone', object({ a: number, b: number }), object({ a: number }), 'b is sent no more'],
    ['an optional member is gone', object({ a: number, b: number }, ['a']), object({ a: number }), 'b is sent no more'],
    ['it may be left out', object({ a: number }), object({ a: number }, []), 'a may be left out, was always there'],
    ['it is always there', object({ a: number }, []), object({ a: number }), ''],
    ['it is opened', object({ a: number }), object({ a: number }, ['a'], false), ' may have members that the old schema does not name'],
    ['another unit', object({ a: { ...number, 'x-unit': '°C' } }), object({ a: { ...number, 'x-unit': '°F' } }), 'a is in °F now, was in °C'],
    ['no unit any more', object({ a: { ...number, 'x-unit': '°C' } }), object({ a: number }), 'a is in no unit now, was in °C'],
    ['a title only', object({ a: { ...number, title: 'A' } }), object({ a: { ...number, title: 'B', description: 'c', 'x-range': [0, 1] } }), ''],
    ['a constant is another', object({ a: { const: 1 } }), object({ a: { const: 2 } }), 'a may be 2, was always 1'],
    ['a constant is one of several', object({ a: { const: 'x' } }), object({ a: { enum: ['x', 'y'] } }), 'a may be y, was always x'],
    ['one of several is a constant', object({ a: { enum: ['x', 'y'] } }), object({ a: { const: 'x' } }), ''],
    ['a list ends', object({ a: { enum: ['x', 'y'] } }), object({ a: { type: 'string' } }), 'a may be anything, was one of x, y'],
    ['a constant of the type', object({ a: { type: 'string' } }), object({ a: { const: 'x' } }), ''],
    ['a constant of another type', object({ a: { type: 'number' } }), object({ a: { const: 'x' } }), 'a may be x, was number'],
    ['a wider range', object({ a: { type: 'number', minimum: 0 } }), object({ a: { type: 'number', minimum: -1 } }), 'a may be less than 0'],
    ['a narrower range', object({ a: { type: 'number', maximum: 9 } }), object({ a: { type: 'number', maximum: 5 } }), ''],
    ['no range any more', object({ a: { type: 'number', maximum: 9 } }), object({ a: { type: 'number' } }), 'a may be more than 9'],
    [
      'another pattern',
      object({ a: { type: 'string', pattern: '^x' } }),
      object({ a: { type: 'string', pattern: '^y' } }),
      'a is written otherwise: ^y, was ^x',
    ],
    [
      'another format',
      object({ a: { type: 'string', format: 'date-time' } }),
      object({ a: { type: 'integer' } }),
      'a may be integer, was string; a is written otherwise: in any way, was date-time',
    ],
    [
      'deep within',
      object({ a: object({ b: number }) }),
      object({ a: object({ b: { type: 'boolean' } }) }),
      'a.b may be boolean, was number or null',
    ],
    [
      'within a list',
      object({ a: { type: 'array', items: number } }),
      object({ a: { type: 'array', items: { type: 'string' } } }),
      'a[] may be string, was number or null',
    ],
    ['one of two forms', { anyOf: [number, { type: 'string' }] }, { type: 'string' }, ''],
    ['a third form', { anyOf: [number, { type: 'string' }] }, { anyOf: [number, { type: 'boolean' }] }, ' may have a form that it did not have'],
    ['a member called as all objects have one', object({ constructor: number }), object({}), 'constructor is sent no more'],
  ])('%s', (_, before, after, expected) => {
    expect(
      breaksOf(before, after)
        .map((b) => `${b.path} ${b.what}`)
        .join('; '),
    ).toBe(expected)
  })

  it('agrees with a validator: what it lets by holds under the old schema too', () => {
    const ajv = new Ajv({ strict: false })
    const values = [null, 1, 1.5, 'x', true]
    const parts = [number, { type: 'number' }, { type: 'integer' }, { type: 'string' }, { type: 'boolean' }, { const: 1 }, { enum: ['x', 1] }, {}]
    for (const was of parts)
      for (const is of parts)
        for (const needed of [true, false])
          for (const closed of [true, false]) {
            const [before, after] = [object({ a: was }, ['a'], closed), object({ a: is }, needed ? ['a'] : [], closed)]
            if (breaksOf(before, after).length > 0) continue
            const [old, next] = [ajv.compile(before), ajv.compile(after)]
            for (const message of [{}, ...values.map((a) => ({ a })), ...values.map((b) => ({ a: 1, b }))])
              if (next(message)) expect(old(message), JSON.stringify({ before, after, message })).toBe(true)
          }
  })
})
