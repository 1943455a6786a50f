import type { PlanMember } from '~/contract/publication'
import type { TimeForm } from '~/contract/shape'
import { tooDeep } from '../value/json-depth'
import { readMark } from './choose'
import type { Reading, Undecodable } from './shape'
import { fromJson } from './text'

const utf8 = new TextDecoder('utf-8', { fatal: true })
const DEPTH_MAX = 64
/** Texts and numbers, each whole: a number of many digits may be beyond what a double holds. */
const LARGE = /"(?:[^"\\]|\\[\s\S])*"|-?\d+(?:\.\d+)?(?:[eE][+-]?\d+)?/g
const MARK = '\u0001whole:'

/**
 * Octets as JSON (RFC 8259): UTF-8, not deeper than 64 levels. Whole numbers beyond 2^53 come as bigint, unrounded.
 */
export function readJson(bytes: Uint8Array): { json: unknown } | Undecodable {
  let text: string
  try {
    text = utf8.decode(bytes)
  } catch {
    return { problem: 'It is not UTF-8 text', at: null }
  }
  return readJsonText(text)
}

export function readJsonText(text: string): { json: unknown } | Undecodable {
  const deep = tooDeep(text, DEPTH_MAX)
  if (deep !== null) return { problem: `It nests deeper than ${DEPTH_MAX} levels`, at: deep }
  try {
    if (!/\d{16}/.test(text)) return { json: JSON.parse(text) }
    let large = false
    const marked = text.replace(LARGE, (m) => {
      if (m.length < 16 || m.startsWith('"') || /[.eE]/.test(m) || Number.isSafeInteger(Number(m))) return m
      large = true
      return `"${'\\u0001'}whole:${m}"`
    })
    if (!large) return { json: JSON.parse(text) }
    return { json: JSON.parse(marked, (_, v) => (typeof v === 'string' && v.startsWith(MARK) ? BigInt(v.slice(MARK.length)) : v)) }
  } catch (e) {
    const at = /position (\d+)/.exec(String(e))
    return { problem: 'It is not JSON', at: at ? Number(at[1]) : null }
  }
}

export const isObject = (v: unknown): v is Record<string, unknown> => typeof v === 'object' && v !== null && !Array.isArray(v)

/** A reading of a JSON value with its mark; a value of another type than the member's is bad, and says so. */
export function readingOf(
  equipment: string | null,
  m: Pick<PlanMember, 'key' | 'dataType'>,
  raw: unknown,
  mark: unknown,
  at: number | null,
): Reading {
  const told = typeof mark === 'string' ? readMark(mark) : null
  const value = fromJson(raw, m.dataType)
  if (value === undefined) return { equipment, member: m.key, value: null, quality: 'bad', reason: `not ${m.dataType}`, time: at }
  return {
    equipment,
    member: m.key,
    value,
    quality: told?.quality ?? 'good',
    reason: told?.reason ?? '',
    time: at !== null && told?.ageMs != null ? at - told.ageMs : at,
  }
}

/** JSON Schema of a time written in this form. */
export const timeSchema = (form: TimeForm) =>
  form === 'iso' || form === 'local'
    ? { type: 'string', format: 'date-time' }
    : {
        type: form === 'epoch-ms' ? 'integer' : 'number',
        description: form === 'epoch-ms' ? 'Milliseconds since 1970-01-01 UTC' : 'Seconds since 1970-01-01 UTC',
      }
