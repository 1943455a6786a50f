import type { Environment } from '@marcbachmann/cel-js'
import { RE2JS } from 're2js'
import { conversion } from '../value/convert'
import { REPLACED_MAX } from './cost'

/** A function that expressions have beside those of the language itself. */
export interface ExpressionFunction {
  name: string
  /** What it looks like in use. */
  form: string
  group: 'numbers' | 'lists' | 'bits' | 'text' | 'time' | 'before'
  help: string
  /** In the language's way of declaring: `round(double, double): double`. */
  signatures: readonly (readonly [string, (...args: never[]) => unknown])[]
}

/** Thrown by a function that cannot give an answer: the result is bad with these words. */
export class NoAnswer extends Error {}

const decimals = (x: number, n: number) => {
  const p = 10 ** Math.max(0, Math.min(15, Math.trunc(n)))
  // Half goes away from zero: 2.5 is 3, -2.5 is -3; the nudge takes back what binary fractions lose (1.005).
  const scaled = Math.abs(x) * p
  const rounded = Math.floor(scaled + 0.5 + scaled * Number.EPSILON) / p
  return x < 0 ? -rounded : rounded
}
const list = (xs: unknown): number[] => {
  const out = [...(xs as Iterable<unknown>)].map(Number)
  if (out.length === 0) throw new NoAnswer('An empty list')
  return out
}
const whole = (x: number): bigint => {
  if (!Number.isSafeInteger(x)) throw new NoAnswer(`${x} is no whole number, so it has no bits`)
  return BigInt(x)
}
const count = (n: number): bigint => {
  if (!Number.isInteger(n) || n < 0 || n > 52) throw new NoAnswer(`${n} is no place of a bit: 0 to 52`)
  return BigInt(n)
}

/** Each `from` exchanged, until the text is as long as it may become. */
function replaced(text: string, from: string, to: string): string {
  if (from === '') return text
  const pieces = text.split(from, REPLACED_MAX + 2)
  let length = text.length
  length += (pieces.length - 1) * (to.length - from.length)
  if (length > REPLACED_MAX) throw new NoAnswer(`The replaced text would have ${length} characters: ${REPLACED_MAX} are possible`)
  return pieces.join(to)
}

const one = (f: (x: number) => number) => (x: number) => f(x)
const number1 = (name: string, help: string, f: (x: number) => number): ExpressionFunction => ({
  name,
  form: `${name}(x)`,
  group: 'numbers',
  help,
  signatures: [[`${name}(double): double`, one(f)]],
})

/** All of them: what the editor offers and the guide lists. `previous` and `rate` are made where expressions are compiled, as they remember. */
export const expressionFunctions: readonly ExpressionFunction[] = [
  {
    name: 'round',
    form: 'round(x, 2)',
    group: 'numbers',
    help: 'Rounded to so many decimals; without: to a whole number. Halves go away from zero',
    signatures: [
      ['round(double): double', (x: number) => decimals(x, 0)],
      ['round(double, double): double', decimals],
    ],
  },
  number1('floor', 'The whole number below', Math.floor),
  number1('ceil', 'The whole number above', Math.ceil),
  number1('trunc', 'Without its decimals', Math.trunc),
  number1('abs', 'Without its sign', Math.abs),
  number1('sign', '-1, 0 or 1', Math.sign),
  number1('sqrt', 'Square root', Math.sqrt),
  number1('exp', 'e to the power of x', Math.exp),
  number1('ln', 'Natural logarithm', Math.log),
  number1('log10', 'Logarithm to the base 10', Math.log10),
  number1('sin', 'Sine of an angle in radians', Math.sin),
  number1('cos', 'Cosine of an angle in radians', Math.cos),
  number1('tan', 'Tangent of an angle in radians', Math.tan),
  {
    name: 'pow',
    form: 'pow(x, y)',
    group: 'numbers',
    help: 'x to the power of y',
    signatures: [['pow(double, double): double', (x: number, y: number) => x ** y]],
  },
  {
    name: 'clamp',
    form: 'clamp(x, low, high)',
    group: 'numbers',
    help: 'Not below low, not above high',
    signatures: [['clamp(double, double, double): double', (x: number, low: number, high: number) => Math.min(high, Math.max(low, x))]],
  },
  {
    name: 'scale',
    form: 'scale(x, 0, 27648, 0, 100)',
    group: 'numbers',
    help: 'Along the line on which the first two become the last two',
    signatures: [
      [
        'scale(double, double, double, double, double): double',
        (x: number, a: number, b: number, low: number, high: number) => low + ((x - a) / (b - a)) * (high - low),
      ],
    ],
  },
  {
    name: 'convert',
    form: "convert(x, '°C', 'K')",
    group: 'numbers',
    help: 'From one unit to another that measures the same',
    signatures: [
      [
        'convert(double, string, string): double',
        (x: number, from: string, to: string) => {
          const c = conversion(from, to)
          if (!c) throw new NoAnswer(`${from} does not become ${to}`)
          return x * c.factor + c.offset
        },
      ],
    ],
  },
  {
    name: 'min',
    form: 'min([a, b, c])',
    group: 'lists',
    help: 'The least of a list, or of two',
    signatures: [
      ['min(list): double', (xs: unknown) => Math.min(...list(xs))],
      ['min(double, double): double', (a: number, b: number) => Math.min(a, b)],
    ],
  },
  {
    name: 'max',
    form: 'max([a, b, c])',
    group: 'lists',
    help: 'The greatest of a list, or of two',
    signatures: [
      ['max(list): double', (xs: unknown) => Math.max(...list(xs))],
      ['max(double, double): double', (a: number, b: number) => Math.max(a, b)],
    ],
  },
  {
    name: 'avg',
    form: 'avg([a, b, c])',
    group: 'lists',
    help: 'The mean of a list',
    signatures: [
      [
        'avg(list): double',
        (xs: unknown) => {
          const ns = list(xs)
          return ns.reduce((s, n) => s + n, 0) / ns.length
        },
      ],
    ],
  },
  {
    name: 'sum',
    form: 'sum([a, b, c])',
    group: 'lists',
    help: 'All of a list together; of none: 0',
    signatures: [['sum(list): double', (xs: unknown) => [...(xs as Iterable<unknown>)].reduce((s: number, n) => s + Number(n), 0)]],
  },
  {
    name: 'bit',
    form: 'bit(word, 3)',
    group: 'bits',
    help: 'Whether a bit is set; 0 is the least',
    signatures: [['bit(double, double): bool', (x: number, n: number) => ((whole(x) >> count(n)) & 1n) === 1n]],
  },
  {
    name: 'bits',
    form: 'bits(word, 4, 3)',
    group: 'bits',
    help: 'The number that so many bits make, from a place on: bits(word, from, count)',
    signatures: [
      ['bits(double, double, double): double', (x: number, from: number, n: number) => Number((whole(x) >> count(from)) & ((1n << count(n)) - 1n))],
    ],
  },
  {
    name: 'bitAnd',
    form: 'bitAnd(a, b)',
    group: 'bits',
    help: 'Bits that both have',
    signatures: [['bitAnd(double, double): double', (a: number, b: number) => Number(whole(a) & whole(b))]],
  },
  {
    name: 'bitOr',
    form: 'bitOr(a, b)',
    group: 'bits',
    help: 'Bits that either has',
    signatures: [['bitOr(double, double): double', (a: number, b: number) => Number(whole(a) | whole(b))]],
  },
  {
    name: 'bitXor',
    form: 'bitXor(a, b)',
    group: 'bits',
    help: 'Bits that just one has',
    signatures: [['bitXor(double, double): double', (a: number, b: number) => Number(whole(a) ^ whole(b))]],
  },
  {
    name: 'lower',
    form: 'lower(s)',
    group: 'text',
    help: 'In small letters',
    signatures: [['lower(string): string', (s: string) => s.toLowerCase()]],
  },
  {
    name: 'upper',
    form: 'upper(s)',
    group: 'text',
    help: 'In capital letters',
    signatures: [['upper(string): string', (s: string) => s.toUpperCase()]],
  },
  {
    name: 'trimmed',
    form: 'trimmed(s)',
    group: 'text',
    help: 'Without spaces at its ends',
    signatures: [['trimmed(string): string', (s: string) => s.trim()]],
  },
  {
    name: 'replaced',
    form: "replaced(s, '-', '_')",
    group: 'text',
    help: 'With each occurrence of a text replaced by another',
    signatures: [['replaced(string, string, string): string', replaced]],
  },
  {
    name: 'part',
    form: "part(s, '/', 1)",
    group: 'text',
    help: 'One of the parts of a text, counted from 0; empty when there are not so many',
    signatures: [['part(string, string, double): string', (s: string, by: string, n: number) => s.split(by).at(n) ?? '']],
  },
  {
    name: 'fixed',
    form: 'fixed(x, 1)',
    group: 'text',
    help: 'A number as text with so many decimals',
    signatures: [['fixed(double, double): string', (x: number, n: number) => decimals(x, n).toFixed(Math.max(0, Math.min(15, Math.trunc(n))))]],
  },
  {
    name: 'epochMs',
    form: 'epochMs(t)',
    group: 'time',
    help: 'Milliseconds since 1970-01-01T00:00:00Z',
    signatures: [['epochMs(google.protobuf.Timestamp): double', (t: Date) => t.getTime()]],
  },
  {
    name: 'timeOf',
    form: 'timeOf(ms)',
    group: 'time',
    help: 'The time that so many milliseconds since 1970 mean',
    signatures: [
      [
        'timeOf(double): google.protobuf.Timestamp',
        (ms: number) => {
          if (!(Math.abs(ms) <= 8.64e15)) throw new NoAnswer(`${ms} is no time`)
          return new Date(ms)
        },
      ],
    ],
  },
  { name: 'now', form: 'now()', group: 'time', help: 'The time at which this is computed', signatures: [] },
  { name: 'previous', form: 'previous(x)', group: 'before', help: 'What x was when this was computed before; at first x itself', signatures: [] },
  { name: 'rate', form: 'rate(x)', group: 'before', help: 'Change of x per second since this was computed before; at first 0', signatures: [] },
]

/** So many patterns are kept ready. */
const PATTERNS_MAX = 200
const PATTERN_CHARS_MAX = 1000
const patterns = new Map<string, RE2JS>()

/** Whether a pattern (RE2 syntax) is found in a text, in time linear in its length. */
function matchesLinear(text: string, pattern: string): boolean {
  let ready = patterns.get(pattern)
  if (!ready) {
    if (pattern.length > PATTERN_CHARS_MAX) throw new NoAnswer(`A pattern of ${pattern.length} characters: ${PATTERN_CHARS_MAX} are possible`)
    try {
      ready = RE2JS.compile(pattern)
    } catch (e) {
      throw new NoAnswer(`${pattern} is no pattern: ${(e as Error).message.replace(/^error parsing regexp: /, '')}`)
    }
    if (patterns.size >= PATTERNS_MAX) patterns.clear()
    patterns.set(pattern, ready)
  }
  return ready.matcher(text).find()
}

/** Declares all of them, and the operators by which whole and other numbers go together. */
export function declare(env: Environment): Environment {
  for (const f of expressionFunctions) for (const [signature, run] of f.signatures) env.registerFunction(signature, run as never)
  const mixed: Record<string, (a: number, b: number) => number> = {
    '+': (a, b) => a + b,
    '-': (a, b) => a - b,
    '*': (a, b) => a * b,
    '/': (a, b) => a / b,
    '%': (a, b) => a % b,
  }
  env.registerOperator('double % double: double', ((a: number, b: number) => a % b) as never)
  for (const [op, run] of Object.entries(mixed))
    for (const [a, b] of [
      ['int', 'double'],
      ['double', 'int'],
    ])
      env.registerOperator(`${a} ${op} ${b}: double`, ((x: unknown, y: unknown) => run(Number(x), Number(y))) as never)
  env.registerOperator('double == int', ((a: number, b: bigint) => a === Number(b)) as never)
  env.registerFunction('string.matchesLinear(string): bool', matchesLinear as never)
  // Places in a text may be any number that is whole.
  const place = (n: unknown) => Number(n)
  env.registerFunction('string.substring(double): string', ((s: string, a: unknown) => s.slice(place(a))) as never)
  env.registerFunction('string.substring(double, double): string', ((s: string, a: unknown, b: unknown) => s.slice(place(a), place(b))) as never)
  return env
}
