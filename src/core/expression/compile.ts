import { type ASTNode, Environment, EvaluationError } from '@marcbachmann/cel-js'
import type { EpochMs } from '~/contract/id'
import type { DataType } from '~/contract/tag'
import type { Scalar } from '../value/deadband'
import { CHARS_MAX, costOf, STEPS_MAX, TEXT_MAX } from './cost'
import { declare, NoAnswer } from './functions'

/** What is wrong with an expression, and where: offsets into its text. */
export interface ExpressionProblem {
  message: string
  from: number
  to: number
}

export interface ExpressionVariable {
  name: string
  dataType: DataType
}

export interface Compiled {
  /** What it gives; null when that shows only as it runs. */
  dataType: DataType | null
  /** Computes it from the variables' values in their order; null when there is no answer, and then `problem` says why. */
  run(values: readonly Scalar[], now: EpochMs): Scalar
  problem: string | null
}

const TYPES: Record<DataType, string> = {
  number: 'double',
  integer: 'double',
  boolean: 'bool',
  text: 'string',
  time: 'google.protobuf.Timestamp',
}
const GIVES: Record<string, DataType> = {
  double: 'number',
  int: 'number',
  bool: 'boolean',
  string: 'text',
  'google.protobuf.Timestamp': 'time',
}

/** Moment of the run under way: expressions run one at a time. */
let moment = 0

interface Remembered {
  value: number
  at: number
  rate: number
  now: unknown
  before: unknown
}
/** What `previous` and `rate` remember, one for each place where they stand in a compiled expression. */
interface Macro {
  argument: ASTNode
  seen: Remembered | null
}

/** The library's handles for macros are not typed: what is used of them. */
interface Checker {
  check(node: ASTNode, ctx: unknown): { name: string }
  getType(name: string): unknown
  createError(code: string, message: string, node: ASTNode): Error
}
interface Evaluator {
  run(node: ASTNode, ctx: unknown): unknown
}

const remembering = (what: 'previous' | 'rate') => (call: { args: ASTNode[] }) => ({
  argument: call.args[0]!,
  seen: null,
  typeCheck(checker: Checker, macro: Macro, ctx: unknown) {
    const type = checker.check(macro.argument, ctx)
    if (what === 'rate' && type.name !== 'double' && type.name !== 'int')
      throw checker.createError('no_matching_overload', 'rate() is of a number', macro.argument)
    return type
  },
  evaluate(evaluator: Evaluator, macro: Macro, ctx: unknown) {
    const value = evaluator.run(macro.argument, ctx)
    const seen = macro.seen
    const number = Number(value)
    if (seen && moment <= seen.at) return what === 'rate' ? seen.rate : seen.before
    const rate = seen ? ((number - seen.value) / (moment - seen.at)) * 1000 : 0
    const before = seen ? seen.now : value
    macro.seen = { value: number, at: moment, rate, before, now: value }
    return what === 'rate' ? rate : before
  },
})

const base = declare(
  new Environment({ homogeneousAggregateLiterals: false, limits: { maxAstNodes: 2000, maxDepth: 60, maxListElements: 500, maxMapEntries: 100 } }),
)
  .registerFunction('now(): google.protobuf.Timestamp', (() => new Date(moment)) as never)
  .registerFunction('previous(ast): dyn', remembering('previous') as never)
  .registerFunction('rate(ast): double', remembering('rate') as never)

/** Whole numbers as written become numbers like all others, so that 7 / 2 is 3.5; places in a list stay whole. */
function soften(node: unknown, place = false): void {
  if (Array.isArray(node)) for (const n of node) soften(n)
  if (typeof node !== 'object' || node === null || !('op' in node)) return
  const n = node as { op: string; args: unknown }
  if (n.op === 'value') {
    if (typeof n.args === 'bigint' && !place) n.args = Number(n.args)
  } else if (n.op === '[]') {
    const [of, at] = n.args as [unknown, unknown]
    soften(of)
    soften(at, true)
  } else if (n.op === 'rcall' && Array.isArray(n.args)) {
    // The language's own matching can take for ever; ours is linear.
    if (n.args[0] === 'matches') n.args[0] = 'matchesLinear'
    for (const a of n.args) soften(a)
  } else if (Array.isArray(n.args)) for (const a of n.args) soften(a)
  else soften(n.args)
}

/** A large number for people. */
const some = (n: number) => (n >= 1e15 ? 'countless' : Math.round(n).toLocaleString('en'))

/** The refusals of the language in words for people; others are told as they are. */
function inWords(message: string): string {
  const unknown = /^Unknown variable: (.+)$/.exec(message)
  if (unknown) return `${unknown[1]} is not known: pick what it stands for, or correct it`
  const operator = /^no such overload: (.+)$/.exec(message)
  if (operator) return `${operator[1]!.replaceAll('double', 'number').replaceAll('google.protobuf.Timestamp', 'time')} does not work`
  const call = /^found no matching overload for '(.+)'$/.exec(message)
  if (call) return `There is no ${call[1]!.replaceAll('double', 'number')}`
  if (message.startsWith('Unexpected token: EOF')) return 'Something is missing at the end'
  return message.replaceAll('double', 'number')
}

function problemOf(e: unknown, text: string): ExpressionProblem {
  const { range, summary, message } = e as { range?: { start: number; end: number }; summary?: string; message: string }
  const from = Math.min(range?.start ?? 0, text.length)
  return { message: inWords(summary ?? message.split('\n')[0]!), from, to: Math.max(from, Math.min(range?.end ?? text.length, text.length)) }
}

/** Names that an expression mentions, in the order in which they come; also those that its own lists use. */
export function namesIn(text: string): string[] {
  const names = new Set<string>()
  const look = (node: unknown): void => {
    if (Array.isArray(node)) return node.forEach(look)
    if (typeof node !== 'object' || node === null || !('op' in node)) return
    const n = node as { op: string; args: unknown }
    if (n.op === 'id') names.add(n.args as string)
    else look(n.args)
  }
  try {
    look(base.parse(text).ast)
  } catch {
    // Not whole yet, as while somebody types: what looks like a name is one.
    for (const m of text.replace(/(["']).*?\1/g, ' ').matchAll(/(?<![\w.])[A-Za-z_]\w*(?!\w*\s*\()/g)) names.add(m[0])
  }
  return [...names]
}

/**
 * Compiles an expression of the Common Expression Language (CEL). Numbers are all of one kind (IEEE 754 doubles), so 7 / 2
 * is 3.5. Each compiled expression remembers for itself what `previous` and `rate` need.
 */
export function compileExpression(text: string, variables: readonly ExpressionVariable[]): Compiled | ExpressionProblem {
  let run: ReturnType<Environment['parse']>
  let gives: string
  try {
    const env = base.clone()
    for (const v of variables) env.registerVariable(v.name, TYPES[v.dataType])
    run = env.parse(text)
    soften(run.ast)
    const { steps, chars } = costOf(run.ast, new Set(variables.filter((v) => v.dataType === 'text').map((v) => v.name)))
    if (steps > STEPS_MAX)
      return { message: `It may take ${some(steps)} steps, ${some(STEPS_MAX)} are possible: shorten its lists`, from: 0, to: text.length }
    if (chars > CHARS_MAX)
      return { message: `It may make a text of ${some(chars)} characters, ${some(CHARS_MAX)} are possible`, from: 0, to: text.length }
    const checked = run.check()
    if (!checked.valid) return problemOf(checked.error, text)
    gives = checked.type ?? 'dyn'
  } catch (e) {
    return problemOf(e, text)
  }
  if (gives !== 'dyn' && !(gives in GIVES))
    return { message: `It gives a ${gives.replace(/<.*/, '').replace(/.*\./, '')}, which is no single value`, from: 0, to: text.length }
  const context: Record<string, unknown> = {}
  const times = variables.map((v) => v.dataType === 'time')
  const compiled: Compiled = {
    dataType: GIVES[gives] ?? null,
    problem: null,
    run(values, now) {
      compiled.problem = null
      moment = now
      try {
        for (let i = 0; i < variables.length; i++) {
          const value = values[i]
          if (typeof value === 'string' && value.length > TEXT_MAX)
            throw new NoAnswer(`${variables[i]!.name} has ${value.length} characters: ${TEXT_MAX} can be computed with`)
          context[variables[i]!.name] = times[i] ? new Date(value as string) : value
        }
        const result: unknown = run(context)
        if (typeof result === 'number') {
          if (Number.isFinite(result)) return result
          compiled.problem = Number.isNaN(result) ? 'The result is no number, as after 0 / 0' : 'The result is infinite, as after a division by zero'
          return null
        }
        if (typeof result === 'bigint') return Number(result)
        if (typeof result === 'string' || typeof result === 'boolean') return result
        if (result instanceof Date && !Number.isNaN(result.getTime())) return result.toISOString()
        compiled.problem = 'The result is no single value'
      } catch (e) {
        const cause = e instanceof EvaluationError && e.cause instanceof NoAnswer ? e.cause : e
        compiled.problem = inWords((cause as { summary?: string }).summary ?? (cause as Error).message.split('\n')[0]!)
      }
      return null
    },
  }
  return compiled
}

/** So many compiled expressions are kept. */
const KEPT = 500
const kept = new Map<string, Compiled | ExpressionProblem>()
const remembers = /\b(?:previous|rate)\s*\(/

/**
 * The same, made once for a text over variables of these names and types: thousands of equipment have the same one. What remembers
 * something is made each time.
 */
export function compiledOnce(text: string, variables: readonly ExpressionVariable[]): Compiled | ExpressionProblem {
  if (remembers.test(text)) return compileExpression(text, variables)
  const sign = `${text}\n${variables.map((v) => `${v.name} ${v.dataType}`).join('\n')}`
  const there = kept.get(sign)
  if (there) return there
  const [oldest] = kept.size >= KEPT ? kept.keys() : []
  if (oldest !== undefined) kept.delete(oldest)
  const made = compileExpression(text, variables)
  kept.set(sign, made)
  return made
}

const names = new Map<string, readonly string[]>()

/** `namesIn`, looked for once for a text. */
export function namesOnce(text: string): readonly string[] {
  let found = names.get(text)
  if (found) return found
  if (names.size >= KEPT) names.clear()
  names.set(text, (found = namesIn(text)))
  return found
}
