// JSON whose whole numbers keep all their digits, in and out: beyond 2^53 they are bigint.
import { tooDeep } from './json-depth'

/** Texts and numbers, each whole. */
const PIECES = /"(?:[^"\\]|\\[\s\S])*"(\s*:)?|-?\d+(?:\.\d+)?(?:[eE][+-]?\d+)?/g
const WHOLE = '\u0001whole:'
const TEXT = '\u0001text:'

/**
 * Parses JSON (RFC 8259): whole numbers that a double does not hold come as bigint, unrounded. Throws a `SyntaxError` as
 * `JSON.parse` does.
 */
export function parseExact(text: string): unknown {
  if (!/\d{16}/.test(text)) return JSON.parse(text)
  let large = false
  const marked = text.replace(PIECES, (piece, colon: string | undefined) => {
    // A text of the sender's own that begins like a mark is marked as a text; names of fields are never looked at.
    if (piece.startsWith('"')) return colon === undefined && /^"\\u0001/.test(piece) ? `"\\u0001text:${piece.slice(1)}` : piece
    if (piece.length < 16 || /[.eE]/.test(piece) || Number.isSafeInteger(Number(piece))) return piece
    large = true
    return `"\\u0001whole:${piece}"`
  })
  if (!large) return JSON.parse(text)
  return JSON.parse(marked, (_, v: unknown) => {
    if (typeof v !== 'string' || v.charCodeAt(0) !== 1) return v
    if (v.startsWith(WHOLE)) return BigInt(v.slice(WHOLE.length))
    return v.startsWith(TEXT) ? v.slice(TEXT.length) : v
  })
}

/** `parseExact`, refusing what nests deeper than `most` levels: with the place where. */
export function parseGuarded(text: string, most: number): { json: unknown } | { problem: string; at: number | null } {
  const deep = tooDeep(text, most)
  if (deep !== null) return { problem: `It nests deeper than ${most} levels`, at: deep }
  try {
    return { json: parseExact(text) }
  } catch (e) {
    const at = /position (\d+)/.exec(String(e))
    return { problem: 'It is not JSON', at: at ? Number(at[1]) : null }
  }
}

/** Writes JSON with whole numbers of any size as bare digits; `indent` spaces a level, 0: on one line. */
export function exactJson(value: unknown, indent = 0, level = 1): string {
  if (typeof value === 'bigint') return String(value)
  if (typeof value !== 'object' || value === null || value instanceof Date) return JSON.stringify(value) ?? 'null'
  const list = Array.isArray(value)
  const inner = list
    ? value.map((v) => exactJson(v, indent, level + 1))
    : Object.entries(value).flatMap(([k, v]) =>
        v === undefined ? [] : [`${JSON.stringify(k)}:${indent ? ' ' : ''}${exactJson(v, indent, level + 1)}`],
      )
  const [open, close] = list ? '[]' : '{}'
  if (inner.length === 0 || indent === 0) return `${open}${inner.join(',')}${close}`
  const line = (n: number) => `\n${' '.repeat(indent * n)}`
  return `${open}${line(level)}${inner.join(`,${line(level)}`)}${line(level - 1)}${close}`
}
