import variant from '@jitl/quickjs-wasmfile-release-sync'
import {
  newQuickJSWASMModuleFromVariant,
  newVariant,
  type QuickJSContext,
  type QuickJSHandle,
  type QuickJSRuntime,
  type QuickJSWASMModule,
} from 'quickjs-emscripten-core'
import { bounds, type Script, type ScriptInput, type ScriptOutcome, type ScriptProblem } from './script'

/** Memory of the interpreter, pages of 64 KiB: 16 MiB to begin with, 128 MiB at most. */
const PAGES = { initial: 256, maximum: 2048 }
/** So many scripts are kept ready. */
const READY = 2000
const FILE = 'script'
/** Lines that stand before the script's own. */
const BEFORE = 1

/**
 * Stands around every script: what goes in and out is JSON, whole numbers beyond 2^53 are BigInts inside. Nothing that the language
 * brings along can be changed, so that one message leaves nothing behind for the next but its state.
 */
const SURROUNDINGS = `(() => {
  'use strict'
  const { parse, stringify } = JSON
  const { isArray } = Array
  const lines = []
  const say = (...all) => {
    if (lines.length < ${bounds.consoleLines}) lines.push(all.map((x) => typeof x === 'string' ? x : typeof x === 'bigint' ? String(x) : (() => { try { return stringify(x, big) ?? String(x) } catch { return String(x) } })()).join(' ').slice(0, ${bounds.consoleChars}))
  }
  const big = (_, v) => typeof v === 'bigint' ? String(v) : v
  const console = Object.freeze({ log: say, info: say, warn: say, error: say, debug: say })
  const scalar = (key, v) => {
    if (v === null || v === undefined) return null
    if (typeof v === 'bigint') return { whole: String(v) }
    if (typeof v === 'number') return v === v && v !== Infinity && v !== -Infinity ? v : null
    if (typeof v === 'string' || typeof v === 'boolean') return v
    if (v instanceof Date) return v.toISOString()
    throw new TypeError('message.' + key + ' is ' + (isArray(v) ? 'a list' : typeof v === 'object' ? 'an object' : 'a ' + typeof v) + ': a member has one value')
  }
  const freeze = (o, seen) => {
    if ((typeof o !== 'object' && typeof o !== 'function') || o === null || seen.has(o)) return
    seen.add(o)
    for (const key of Reflect.ownKeys(o)) {
      const d = Reflect.getOwnPropertyDescriptor(o, key)
      freeze(d.value, seen); freeze(d.get, seen); freeze(d.set, seen)
    }
    freeze(Reflect.getPrototypeOf(o), seen)
    Object.freeze(o)
  }
  return {
    close() { freeze(globalThis, new Set()) },
    said: () => stringify(lines),
    run(script, text) {
      lines.length = 0
      const input = parse(text)
      const message = Object.create(null)
      for (const [key, v] of Object.entries(input.message)) message[key] = typeof v === 'object' && v !== null ? BigInt(v.whole) : v
      const state = parse(input.state)
      const given = script(message, input.quality, input.time, input.equipment, state, console, input.now)
      const kept = stringify(state)
      if (kept === undefined || kept.length > ${bounds.state}) throw new RangeError('state has ' + (kept ? kept.length : 'no') + ' characters as JSON: ${bounds.state} are possible')
      if (given === null || given === undefined || given === false) return stringify({ state: kept })
      if (typeof given !== 'object' || isArray(given)) throw new TypeError('It returned ' + (isArray(given) ? 'a list' : 'a ' + typeof given) + ': return the message, or nothing to drop it')
      if (typeof given.then === 'function') throw new TypeError('It returned a promise: a script gives its message at once')
      const out = []
      for (const key of Object.keys(given)) out.push([key, scalar(key, given[key])])
      return stringify({ message: out, state: kept })
    },
  }
})()`

/** An interpreter in which nothing that is shared can be changed any more. */
interface Realm {
  runtime: QuickJSRuntime
  context: QuickJSContext
  /** Whole input in, whole output out. */
  run: QuickJSHandle
  said: QuickJSHandle
  /** Scripts made ready, and what is wrong with those that cannot be. */
  scripts: Map<string, QuickJSHandle | ScriptProblem>
}

/** Where something went wrong, out of the interpreter's stack: the last place in the script's own text. */
function placeIn(stack: string): { line: number | null; column: number | null } {
  const found = /\(?script:(\d+):(\d+)\)?/.exec(stack)
  return found ? { line: Math.max(1, Number(found[1]) - BEFORE), column: Number(found[2]) } : { line: null, column: null }
}

/**
 * Runs scripts in an interpreter of its own: no file, no network, no timer, no way to what is outside. All of them share one realm
 * in which nothing can be changed, so that none leaves anything behind for another.
 */
export class Sandbox {
  private realm: Realm | null = null
  private looks = 0

  private constructor(private readonly module: QuickJSWASMModule) {}

  static async open(): Promise<Sandbox> {
    const wasmMemory = new WebAssembly.Memory(PAGES)
    return new Sandbox(await newQuickJSWASMModuleFromVariant(newVariant(variant, { wasmMemory })))
  }

  /** What is wrong with a script as it is written; null: nothing. */
  check(script: Script): ScriptProblem | null {
    const made = this.of(script)
    return 'message' in made ? made : null
  }

  run(script: Script, input: ScriptInput): ScriptOutcome {
    const made = this.of(script)
    if ('message' in made) return { kind: 'failed', problem: made, console: [] }
    const { context, run } = this.realm!
    this.looks = 0
    const text = context.newString(JSON.stringify(input))
    const result = context.callFunction(run, context.undefined, made, text)
    text.dispose()
    const exhausted = this.looks > bounds.looks
    this.looks = 0
    if (result.error) {
      const problem = this.problem(context, result.error, exhausted)
      const console = this.console()
      // What ran into a bound may have left anything behind.
      if (exhausted || /out of memory|stack overflow/.test(problem.message)) this.forgetAll()
      return { kind: 'failed', problem, console }
    }
    const given = context.getString(result.value)
    result.value.dispose()
    const console = this.console()
    if (given.length > bounds.output)
      return {
        kind: 'failed',
        problem: { message: `It gives ${given.length} characters: ${bounds.output} are possible`, line: null, column: null },
        console,
      }
    const { message, state } = JSON.parse(given) as { message?: [string, ScriptInput['message'][string]][]; state: string }
    return message ? { kind: 'message', message: Object.fromEntries(message), state, console } : { kind: 'dropped', state, console }
  }

  /** What the script of the last run said. */
  private console(): string[] {
    const { context, said } = this.realm!
    const lines = context.callFunction(said, context.undefined)
    const found = lines.error ? [] : (JSON.parse(context.getString(lines.value)) as string[])
    lines.dispose()
    return found
  }

  private of(script: Script): QuickJSHandle | ScriptProblem {
    this.realm ??= this.begin()
    const { scripts } = this.realm
    const there = scripts.get(script.key)
    if (there) {
      // The one that was not asked for the longest stands first.
      scripts.delete(script.key)
      scripts.set(script.key, there)
      return there
    }
    const [oldest] = scripts.size >= READY ? scripts : []
    if (oldest) {
      if (!('message' in oldest[1])) oldest[1].dispose()
      scripts.delete(oldest[0])
    }
    const made = this.make(script.code)
    scripts.set(script.key, made)
    return made
  }

  private begin(): Realm {
    const runtime = this.module.newRuntime({ memoryLimitBytes: bounds.heap, maxStackSizeBytes: bounds.stack })
    const context = runtime.newContext()
    const around = context.unwrapResult(context.evalCode(SURROUNDINGS, 'surroundings'))
    const [run, said, close] = (['run', 'said', 'close'] as const).map((name) => context.getProp(around, name))
    around.dispose()
    context.unwrapResult(context.callFunction(close!, context.undefined)).dispose()
    close!.dispose()
    this.looks = 0
    runtime.setInterruptHandler(() => ++this.looks > bounds.looks)
    return { runtime, context, run: run!, said: said!, scripts: new Map() }
  }

  private make(code: string): QuickJSHandle | ScriptProblem {
    const { context } = this.realm!
    this.looks = 0
    // What closes a bracket that it did not open would be right in one of these, never in both.
    for (const [before, after] of [
      ['({ method(message, quality, time, equipment, state, console, now) {', '} })'],
      ['(function (message, quality, time, equipment, state, console, now) { "use strict";', '})'],
    ] as const) {
      const own = after === '})'
      const made = context.evalCode(`${before}\n${code}\n${after}`, FILE, { type: 'global', strict: true, compileOnly: !own })
      if (made.error) return this.problem(context, made.error, false)
      if (own) return made.value
      made.value.dispose()
    }
    throw new Error('A script is neither right nor wrong')
  }

  private problem(context: QuickJSContext, error: QuickJSHandle, exhausted: boolean): ScriptProblem {
    const text = (name: string): string => {
      const value = context.getProp(error, name)
      const found = context.typeof(value) === 'string' ? context.getString(value) : ''
      value.dispose()
      return found
    }
    const isObject = context.typeof(error) === 'object' && !context.sameValue(error, context.null)
    const [name, said, stack] = isObject ? [text('name'), text('message'), text('stack')] : ['', context.getString(error), '']
    error.dispose()
    const message = exhausted
      ? `It took more than ${(bounds.looks * 10_000).toLocaleString('en')} operations`
      : said === 'out of memory'
        ? `It took more than ${bounds.heap / 1024 / 1024} MB: out of memory`
        : [name === 'InternalError' ? '' : name, said || 'it threw something without words'].filter(Boolean).join(': ')
    return { message: message.slice(0, 500), ...placeIn(stack) }
  }

  private forgetAll(): void {
    const { runtime, context, run, said, scripts } = this.realm!
    this.realm = null
    for (const made of scripts.values()) if (!('message' in made)) made.dispose()
    run.dispose()
    said.dispose()
    context.dispose()
    runtime.dispose()
  }
}
