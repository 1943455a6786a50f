import fc from 'fast-check'
import { expect, it } from 'vitest'
import { jsonFaultAt } from './json-fault'

const parses = (text: string) => {
  try {
    JSON.parse(text)
    return true
  } catch {
    return false
  }
}

it('what parses has no fault, whatever its spaces', () => {
  fc.assert(
    fc.property(fc.json(), fc.constantFrom(0, 1, '\t'), (json, indent) => {
      expect(jsonFaultAt(JSON.stringify(JSON.parse(json), null, indent))).toBeNull()
    }),
  )
})

it('what does not parse has one, within its length, and the text before it can be gone on with', () => {
  const piece = fc.constantFrom('{', '}', '[', ']', ',', ':', '"a"', '"', '0', '1', '-', '.5', 'e3', 'null', 'true', ' ', '\\', 'x')
  fc.assert(
    fc.property(fc.array(piece, { maxLength: 12 }), (pieces) => {
      const text = pieces.join('')
      const at = jsonFaultAt(text)
      expect(at === null, text).toBe(parses(text))
      if (at !== null) expect(at).toBeLessThanOrEqual(text.length)
    }),
    { numRuns: 5000 },
  )
})

it.each([
  ['{"a":-}', 5],
  ['{"a":1null}', 6],
  ['{"a":1,}', 7],
  ['[1 2]', 3],
  ['', 0],
  ['{"a":', 5],
  ['{"a":"\\x"}', 5],
  ['01', 1],
  ['{a:1}', 1],
])('%s stops being JSON at %d', (text, at) => expect(jsonFaultAt(text)).toBe(at))

it('depth is bounded, and long texts are read to their end', () => {
  expect(jsonFaultAt('['.repeat(65))).toBe(64)
  expect(jsonFaultAt(`[${'1,'.repeat(200_000)}1]`)).toBeNull()
  expect(jsonFaultAt(`["${'\\"'.repeat(200_000)}`)).toBe(1)
})
