import { describe, expect, it } from 'vitest'
import { typedValue, writeProblem } from './writing'

const tag = { access: 'read-write', dataType: 'number', range: { low: 0, high: 1250 }, unit: '°C', simulated: false } as const

describe('writing', () => {
  it.each([
    [{}, 688, null],
    [{}, 0, null],
    [{}, 1250, null],
    [{}, 1250.1, 'From 0 to 1250 °C'],
    [{}, Number.NaN, 'A number'],
    [{}, '688', 'A number'],
    [{ dataType: 'integer' }, 1.5, 'A whole number'],
    [{ dataType: 'boolean' }, 1, 'true or false'],
    [{ dataType: 'boolean' }, true, null],
    [{ dataType: 'text' }, 'x', null],
    [{ dataType: 'time' }, 'soon', 'A time like'],
    [{ access: 'read' }, 1, 'This tag is read-only'],
    [{ simulated: true }, 1, 'on simulation'],
  ] as const)('%j %s: %s', (part, value, problem) => {
    const found = writeProblem({ ...tag, ...part }, value)
    if (problem === null) expect(found).toBeNull()
    else expect(found).toContain(problem)
  })

  it.each([
    ['12.5', 'number', 12.5],
    ['12,5', 'number', 12.5],
    ['1.012,5', 'number', '1.012,5'],
    ['', 'number', ''],
    ['true', 'boolean', true],
    ['1', 'boolean', '1'],
    [' a ', 'text', ' a '],
  ] as const)('%s typed for a %s', (text, type, value) => expect(typedValue(text, type)).toBe(value))
})
