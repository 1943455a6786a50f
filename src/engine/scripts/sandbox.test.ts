import { beforeAll, describe, expect, it } from 'vitest'
import { Sandbox } from './sandbox'
import { bounds, problemWords, type ScriptInput } from './script'

let sandbox: Sandbox
beforeAll(async () => {
  sandbox = await Sandbox.open()
})

const input = (part: Partial<ScriptInput> = {}): ScriptInput => ({
  message: { temperature: 640, burning: true, program: 'P12', pressure: null },
  quality: { temperature: 'good', burning: 'good', program: 'good', pressure: 'bad' },
  time: { temperature: '2026-03-04T14:07:12.481Z', burning: null, program: null, pressure: null },
  equipment: { name: 'Zone 1', class: 'Kiln Zone', path: ['Varnmoor', 'Zone 1'], facts: { serial: 'VK-7' } },
  state: '{}',
  now: 1_700_000_000_000,
  ...part,
})
const run = (code: string, part: Partial<ScriptInput> = {}) => sandbox.run({ key: code, code }, input(part))
const failing = (code: string): string => {
  const outcome = run(code)
  expect(outcome.kind).toBe('failed')
  return outcome.kind === 'failed' ? problemWords(outcome.problem) : ''
}

describe('a script', () => {
  it('gives the message as it changed it', () => {
    expect(run('message.temperature += 0.5; message.deviation = message.temperature - 650; return message')).toEqual({
      kind: 'message',
      message: { temperature: 640.5, burning: true, program: 'P12', pressure: null, deviation: -9.5 },
      state: '{}',
      console: [],
    })
  })

  it('drops the message by returning nothing', () => {
    for (const code of ['', 'return', 'return null', 'return false', 'if (message.temperature > 700) return message'])
      expect(run(code)).toMatchObject({ kind: 'dropped' })
  })

  it('sees quality, time, equipment and now', () => {
    const outcome = run('return { q: quality.pressure, t: time.temperature, n: equipment.name, s: equipment.facts.serial, now }')
    expect(outcome).toMatchObject({ message: { q: 'bad', t: '2026-03-04T14:07:12.481Z', n: 'Zone 1', s: 'VK-7', now: 1_700_000_000_000 } })
  })

  it('keeps its state from one message to the next, and only that', () => {
    const code = 'state.n = (state.n ?? 0) + 1; message.n = state.n; return message'
    const first = run(code)
    expect(first).toMatchObject({ kind: 'message', message: { n: 1 }, state: '{"n":1}' })
    expect(run(code, { state: '{"n":41}' })).toMatchObject({ message: { n: 42 } })
    expect(run(code)).toMatchObject({ message: { n: 1 } })
    expect(failing('globalThis.kept = 1; return message')).toContain('line 1')
    expect(failing('kept = 1; return message')).toContain("'kept' is not defined")
  })

  it('keeps all digits of whole numbers', () => {
    const whole = { whole: '9007199254740993' }
    expect(run('message.n = message.n + 1n; return message', { message: { n: whole } })).toMatchObject({
      message: { n: { whole: '9007199254740994' } },
    })
  })

  it('gives what is no finite number as no value, and times as text', () => {
    expect(run('return { a: 0 / 0, b: 1 / 0, c: undefined, d: new Date(0) }')).toMatchObject({
      message: { a: null, b: null, c: null, d: '1970-01-01T00:00:00.000Z' },
    })
  })

  it('says things on its console', () => {
    expect(run('console.log("t", message.temperature, { a: [1] }, 5n); return null')).toMatchObject({ console: ['t 640 {"a":[1]} 5'] })
    const much = run(`for (let i = 0; i < 1000; i++) console.log("x".repeat(2000)); return null`)
    expect(much.console).toHaveLength(bounds.consoleLines)
    expect(much.console[0]).toHaveLength(bounds.consoleChars)
    // What it said before it failed is what one looks for.
    expect(run('console.log("before"); null.x')).toMatchObject({ kind: 'failed', console: ['before'] })
  })

  it('takes names that mean something elsewhere for names', () => {
    const message = JSON.parse('{"__proto__": 1, "constructor": 2, "hasOwnProperty": 3}') as Record<string, number>
    const outcome = run('message.toString = 4; return message', { message })
    expect(outcome.kind === 'message' ? Object.entries(outcome.message) : []).toEqual([
      ['__proto__', 1],
      ['constructor', 2],
      ['hasOwnProperty', 3],
      ['toString', 4],
    ])
  })
})

describe('what is wrong with a script is told with line and column', () => {
  it.each([
    ['const a = 1\nreturn b', 'line 2, column 8', "'b' is not defined"],
    ['const a = 1\n  let x = = 3', 'line 2, column 11', 'unexpected token'],
    ['return message.program.nothing.more', 'line 1', 'cannot read property'],
    ['function f(x) {\n  return x.y.z\n}\nreturn f({})', 'line 2', 'cannot read property'],
    ['throw "plainly"', '', 'plainly'],
    ['throw new Error("in words")', 'line 1', 'Error: in words'],
    ['throw null', '', ''],
    ['return 5', '', 'It returned a number'],
    ['return [message]', '', 'It returned a list'],
    ['return { a: [1] }', '', 'message.a is a list'],
    ['return { a: { b: 1 } }', '', 'message.a is an object'],
    ['return { a: () => 1 }', '', 'message.a is a function'],
    ['return Promise.resolve(message)', '', 'It returned a promise'],
    ['state.x = "y".repeat(20000); return message', '', 'state has'],
    ['state.self = state; return message', '', 'circular'],
    ['state.n = 1n; return message', '', ''],
    ['await 1', 'line 1', ''],
    ['return import("fs")', '', 'It returned a promise'],
    ['})', '', ''],
    ['}); 5; (function () {', '', ''],
  ])('%j', (code, place, words) => {
    const told = failing(code)
    expect(told).toContain(place)
    expect(told).toContain(words)
  })
})

describe('no script gets out of its bounds', () => {
  it.each([
    ['an endless loop', 'while (true) {}'],
    ['an endless loop that catches', 'while (true) { try { while (true) {} } catch {} }'],
    ['an endless generator', 'function* g() { while (true) yield 1 }\nfor (const x of g()) {}'],
    ['endless recursion', 'function f() { return f() + 1 }\nreturn f()'],
    ['recursion through a getter', 'const o = { get a() { return this.a } }\nreturn { x: o.a }'],
    ['recursion through JSON', 'const o = { toJSON() { return JSON.stringify(o) } }\nreturn { x: JSON.stringify(o) }'],
    ['a string that doubles', 'let s = "x"\nwhile (true) s += s'],
    ['a list that grows', 'const a = []\nwhile (true) a.push("x" + a.length)'],
    ['a list of a billion', 'return { n: Array(1e9).fill(0).length }'],
    ['a buffer of a gigabyte', 'return { n: new ArrayBuffer(1e9).byteLength }'],
    ['a text of a hundred million', 'return { n: "x".repeat(1e8).length }'],
    ['objects one in the other', 'let o = {}\nwhile (true) o = { o }'],
    ['a regular expression that explodes', 'return { ok: /^(a+)+$/.test("a".repeat(40) + "b") }'],
    ['another one', 'return { ok: /(x+x+)+y/.test("x".repeat(60)) }'],
    ['sorting with a comparison that never ends', '[3, 2, 1].sort(() => { while (true) {} })'],
    ['a proxy that never answers', 'return new Proxy({}, { ownKeys() { while (true) {} } })'],
    ['eval that never ends', 'eval("while (true) {}")'],
    ['a function from text that never ends', 'new Function("while (true) {}")()'],
    ['digits without end', 'let n = 3n\nwhile (true) n = n ** 3n'],
    ['a map that grows', 'const m = new Map()\nfor (let i = 0; ; i++) m.set(i, {})'],
  ])('%s', { timeout: 120_000 }, (_, code) => {
    failing(code)
    // The next message, and other scripts, do not feel it.
    expect(run('return message')).toMatchObject({ kind: 'message', message: { temperature: 640 } })
  })

  it('catches nothing of its end', { timeout: 60_000 }, () => {
    expect(failing('try { while (true) {} } catch (e) { return message } finally { return message }')).toContain('operations')
  })
})

describe('no script reaches what is outside', () => {
  it.each([
    ...[
      'require',
      'process',
      'module',
      'fetch',
      'XMLHttpRequest',
      'WebSocket',
      'WebAssembly',
      'Worker',
      'setTimeout',
      'setInterval',
      'Deno',
      'Bun',
      'std',
      'os',
      'print',
      'load',
      'global',
      'window',
      'self',
    ].map((name) => `return { x: typeof ${name} === "undefined" }`),
    'return { x: (function () { return this })() === undefined }',
    'return { x: typeof message.constructor === "undefined" }',
    'try { Object.prototype.polluted = 1; return { x: false } } catch { return { x: true } }',
    'try { Array.prototype.push = () => 1; return { x: false } } catch { return { x: true } }',
    'try { JSON.parse = () => 1; return { x: false } } catch { return { x: true } }',
    'try { console.log = () => 1; return { x: false } } catch { return { x: true } }',
    'try { ({}).__proto__.polluted = 1; return { x: false } } catch { return { x: true } }',
    'try { equipment.constructor.constructor("return this")().polluted = 1; return { x: false } } catch { return { x: true } }',
    'return { x: (0, eval)("typeof process") === "undefined" }',
    'return { x: equipment.constructor.constructor("return typeof process")() === "undefined" }',
    'const f = Object.getPrototypeOf(async function () {}).constructor\nreturn { x: f("return typeof require") instanceof Function }',
  ])('%s', (code) => {
    expect(run(code)).toMatchObject({ kind: 'message', message: { x: true } })
    expect(({} as { polluted?: number }).polluted).toBeUndefined()
  })
})

it('leaves nothing behind where it closes a bracket that it did not open', () => {
  failing('}); let left = 1; (function () {')
  failing('} }); let left = 1; ({ method() {')
  expect(run('return { x: typeof left }')).toMatchObject({ message: { x: 'undefined' } })
})

it('keeps a thousand scripts apart', { timeout: 120_000 }, () => {
  for (let round = 0; round < 2; round++) for (let i = 0; i < 1000; i++) expect(run(`return { n: ${i} }`)).toMatchObject({ message: { n: i } })
})
