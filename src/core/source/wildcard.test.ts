import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { nearPatterns, wildcard } from './wildcard'

/** The same, as a regular expression. */
function asExpression(pattern: string): RegExp {
  const source = pattern.replace(/\*\*\/|\*\*|\*|\?|[\\^$.|+()[\]{}]/g, (found) => known[found] ?? `\\${found}`)
  return new RegExp(`^${pattern.includes('/') ? '' : '(?:.*/)?'}${source}$`, 'iu')
}
const known: Record<string, string> = { '**/': '(?:[^/]*/)*', '**': '.*', '*': '[^/]*', '?': '[^/]' }

describe('wildcards', () => {
  it.each([
    ['temperature', 'Kiln/Zone 4/temperature', true],
    ['temp*', 'Kiln/Zone 4/Temperature', true],
    ['temp*', 'Kiln/Zone 4/roof temperature', false],
    ['*temperature', 'Kiln/Zone 4/roof temperature', true],
    ['Kiln/Zone */temperature', 'Kiln/Zone 4/temperature', true],
    ['Kiln/Zone */temperature', 'Kiln/Zone 4/x/temperature', false],
    ['Kiln/**/temperature', 'Kiln/Zone 4/x/temperature', true],
    ['Kiln/**/temperature', 'Kiln/temperature', true],
    ['**/Zone ?/temperature', 'Kiln/Zone 4/temperature', true],
    ['**/Zone ?/temperature', 'Kiln/Zone 12/temperature', false],
    ['Zone 4/temperature', 'Kiln/Zone 4/temperature', false],
    ['Kiln/**', 'Kiln/a/b/c', true],
    ['a.b', 'axb', false],
    ['(x', 'k/(x', true],
  ])('%s and %s: %s', (pattern, path, fits) => expect(wildcard(pattern)(path)).toBe(fits))

  it('a path fits itself, whatever stands in it', () => {
    fc.assert(
      fc.property(fc.string({ minLength: 1 }), (text) => {
        const path = text.replace(/[*?/]/g, '').trim()
        if (path !== '') expect(wildcard(path)(path)).toBe(true)
      }),
    )
  })

  it('fits what the regular expression of the same meaning fits', () => {
    const piece = fc.constantFrom('*', '**', '**/', '?', 'a', 'b', 'A', '/', '.', '[', 'é', '🔥')
    const place = fc.array(fc.constantFrom('a', 'b', '/', '.', '[', 'É', '🔥'), { maxLength: 10 }).map((all) => all.join(''))
    fc.assert(
      fc.property(
        fc.array(piece, { minLength: 1, maxLength: 6 }).map((all) => all.join('')),
        place,
        (pattern, path) => {
          expect(wildcard(pattern)(path), `${pattern} at ${path}`).toBe(asExpression(pattern).test(path))
        },
      ),
      { numRuns: 3000 },
    )
  })

  it('follows a pattern that is made to be slow to its end, over many paths', () => {
    // An expression that goes back would take longer than there is time for the first of them.
    const fits = wildcard('*a*a*a*a*a*a*a*a*b')
    for (let n = 0; n < 200; n++) expect(fits('a'.repeat(400))).toBe(false)
    expect(wildcard('**/**/**/**/**/**/x')('a/'.repeat(400))).toBe(false)
    expect(fits(`${'a'.repeat(400)}b`)).toBe(true)
  })
})

describe('patterns like one that fits nothing', () => {
  const paths = ['Kiln/Zone 4/temperature', 'Kiln/Zone 12/temperature', 'Kiln/Zone 4/roof temperature', 'Dryer/temp', 'Dryer/fan_speed']
  const near = (pattern: string) => nearPatterns(pattern, paths).map((n) => `${n.pattern}: ${n.count}`)
  it.each([
    ['Zone 4/temperature', ['**/Zone 4/temperature: 1', '**/*Zone?4*/*temperature*: 2', '**/*temperature*: 3']],
    ['zone_4/temp', ['**/*zone?4*/*temp*: 2', '**/*temp*: 4']],
    ['fan speed', ['*fan?speed*: 1']],
    ['nowhere', []],
    ['/', []],
    ['**', []],
  ])('%s', (pattern, found) => expect(near(pattern)).toEqual(found))
})
