import type { WireScalar } from '~/contract/value'

/** What is given to a script: one message about one equipment. */
export interface ScriptInput {
  /** Values of its members by their keys. */
  message: Record<string, WireScalar>
  quality: Record<string, 'good' | 'uncertain' | 'bad'>
  /** ISO 8601, UTC; null: it has none. */
  time: Record<string, string | null>
  equipment: { name: string; class: string; path: string[]; facts: Record<string, string | number | boolean> }
  /** What it kept the last time for this equipment, as JSON. */
  state: string
  /** Epoch ms. */
  now: number
}

/** What a script did wrong; line and column from 1, in its own text, null: not known. */
export interface ScriptProblem {
  message: string
  line: number | null
  column: number | null
}

/** What came of one run. */
export type ScriptOutcome = (
  | { kind: 'message'; message: Record<string, WireScalar>; state: string }
  | { kind: 'dropped'; state: string }
  | { kind: 'failed'; problem: ScriptProblem }
) & { console: string[] }

/** A script with the name under which it is kept ready: that of its text. */
export interface Script {
  key: string
  code: string
}

/** Bounds of one run. */
export const bounds = {
  /** Looks of the interpreter at whether it goes on, one each 10,000 or so of its operations: a bound that is alike on any machine. */
  looks: 100,
  /** Heap of the interpreter, octets. */
  heap: 32 * 1024 * 1024,
  stack: 256 * 1024,
  /** A run that does not end by itself is ended with its thread after so long, ms. */
  wallMs: 5000,
  /** What it keeps for an equipment, characters of JSON. */
  state: 16_000,
  /** What it says on its console in one run: lines, and characters of each. */
  consoleLines: 50,
  consoleChars: 500,
  /** What it gives, characters of JSON. */
  output: 1_000_000,
}

/** `'line 3, column 7: 'foo' is not defined'` */
export const problemWords = ({ message, line, column }: ScriptProblem): string =>
  line === null ? message : `line ${line}${column === null ? '' : `, column ${column}`}: ${message}`
