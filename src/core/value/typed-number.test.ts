import { describe, expect, it } from 'vitest'
import { typedNumber } from './typed-number'

describe('numbers as people type them', () => {
  it.each([
    ['0.05', 0.05],
    ['0,05', 0.05],
    [' -1,5e3 ', -1500],
    ['\u22123', -3],
    [',5', 0.5],
    ['7.', 7],
    ['1,234', 1.234],
    ['1.234,5', null],
    ['1,234,567', null],
    ['0x10', null],
    ['', null],
    ['-', null],
    ['Infinity', null],
    ['1e999', null],
    ['12 bar', null],
  ])('%j is %s', (text, value) => expect(typedNumber(text)).toBe(value))
})
