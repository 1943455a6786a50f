import type { PlanMember } from '~/contract/publication'
import type { TimeForm } from '~/contract/shape'
import { parseGuarded } from '../value/exact-json'
import { readMark } from './choose'
import type { Reading, Undecodable } from './shape'
import { fromJson } from './text'

const utf8 = new TextDecoder('utf-8', { fatal: true })
const DEPTH_MAX = 64

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

export const readJsonText = (text: string): { json: unknown } | Undecodable => parseGuarded(text, DEPTH_MAX)

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
