import { describe, expect, it } from 'vitest'
import { compileExpression } from './compile'
import { STEPS_MAX, TEXT_MAX } from './cost'

const variables = [
  { name: 's', dataType: 'text' as const },
  { name: 'x', dataType: 'number' as const },
]
const compile = (text: string) => compileExpression(text, variables)
const problem = (text: string) => {
  const c = compile(text)
  return 'run' in c ? null : c.message
}
const run = (text: string, s = 'FC-12', x = 7) => {
  const c = compile(text)
  if (!('run' in c)) throw new Error(c.message)
  return { value: c.run([s, x], 0), problem: c.problem }
}
const list = (n: number) => `[${Array.from({ length: n }, (_, i) => i).join(',')}]`

describe('an expression that would take for ever is refused before it runs', () => {
  it.each([
    ['lists in lists', `${list(20)}.map(a, ${list(20)}.map(b, ${list(20)}.map(c, ${list(20)}.map(d, a + b + c + d).size()).size()).size()).size()`],
    ['conditions in conditions', `${list(30)}.all(a, ${list(30)}.exists(b, ${list(30)}.all(c, ${list(30)}.exists(d, a == d))))`],
    [
      'lists that grow',
      `cel.bind(l, ${list(500)}, cel.bind(m, l + l + l + l, cel.bind(n, m + m + m + m, n.map(a, n.filter(b, a == b).size()).size())))`,
    ],
    ['parts of a text in parts of a text', "s.split('').map(a, s.split('').map(b, a + b).size()).size()"],
  ])('%s', (_, text) => {
    expect(text.length).toBeLessThan(3000)
    expect(problem(text)).toMatch(/steps, 300,000 are possible/)
  })

  it('a text that doubles again and again', () => {
    let text = 'a60'
    for (let i = 60; i > 0; i--) text = `cel.bind(a${i}, a${i - 1} + a${i - 1}, ${text})`
    const inner = `cel.bind(a0, s, ${text}).size() > 0`
    // Deeper than the language lets anything nest, or longer than a text may become: refused either way.
    expect(problem(inner)).not.toBeNull()
    let shallow = 'a25'
    for (let i = 25; i > 0; i--) shallow = `cel.bind(a${i}, a${i - 1} + a${i - 1}, ${shallow})`
    expect(problem(`cel.bind(a0, s, ${shallow}).size() > 0`)).toMatch(/characters, 4,000,000 are possible/)
  })
})

it('what people write runs as before', () => {
  for (const text of [
    'x * 2 + 1',
    `max([x, 3, 5]) > ${list(100)}.map(a, a * x).size()`,
    `${list(500)}.filter(a, a > 250).size() > 0`,
    `${list(400)}.exists(a, ${list(20)}.exists(b, a == b))`,
    "s.split('-').map(p, p.trim() + '!').join('/')",
    "part(s, '-', 1) == '12' ? 'yes' : 'no'",
  ])
    expect(problem(text), text).toBeNull()
  expect(run("s.split('-').map(p, p.trim() + '!').join('/')").value).toBe('FC!/12!')
})

describe('patterns', () => {
  it.each([
    ["s.matches('^FC-[0-9]+$')", true],
    ["s.matches('[a-z]')", false],
    ["s.matches('(?i)fc')", true],
    ["'a.b'.matches('a\\\\.b')", true],
  ] as const)('%s is %s', (text, value) => expect(run(text).value).toBe(value))

  it('are linear: what takes others for ever is answered', () => {
    expect(run("s.matches('(a+)+$')", `${'a'.repeat(TEXT_MAX - 1)}b`).value).toBe(false)
    expect(run("s.matches('(x+x+)+y')", 'x'.repeat(5000)).value).toBe(false)
  })

  it('that are none give no answer, with the reason', () => {
    expect(run("s.matches('(')")).toEqual({ value: null, problem: expect.stringContaining('is no pattern') })
    expect(run("s.matches('(?=a)')")).toEqual({ value: null, problem: expect.stringContaining('is no pattern') })
    expect(run('s.matches(s)', 'a'.repeat(1001)).problem).toContain('1000 are possible')
  })
})

it('a text that is too long, or would become so, gives no answer', () => {
  expect(run('s.size() > 3', 'a'.repeat(TEXT_MAX + 1))).toEqual({ value: null, problem: expect.stringContaining(`${TEXT_MAX} can be computed with`) })
  const grown = "replaced(replaced(s, 'a', 'aaaaaaaaaaaaaaaa'), 'a', 'aaaaaaaaaaaaaaaa')"
  expect(run(grown, 'a'.repeat(1000)).problem).toContain('65536 are possible')
  expect(run("replaced(s, '-', '_')").value).toBe('FC_12')
})

it('the most that is let through takes its steps and ends', () => {
  const text = `${list(500)}.filter(a, ${list(110)}.all(b, b < 1000 + a)).size()`
  expect(problem(text)).toBeNull()
  expect(run(text).value).toBe(500)
  expect(STEPS_MAX).toBe(300_000)
})
