import { z } from 'zod'

/** UUIDv7 (RFC 9562 5.7): the identity of every stored thing; names are for people. */
export const Id = z.uuid()
export type Id = string

/** Milliseconds since 1970-01-01T00:00:00Z. */
export type EpochMs = number

/** Random bytes ahead of need: asking for sixteen at a time is what takes the time. */
const pool = new Uint8Array(4096)
let used = pool.length
const hex = Array.from({ length: 256 }, (_, b) => b.toString(16).padStart(2, '0'))

let lastMs = 0
let counter = 0

/** Makes a UUIDv7; within one process later ids sort after earlier ones. */
export function newId(now: EpochMs = Date.now()): Id {
  if (now > lastMs) {
    lastMs = now
    counter = 0
  } else counter++
  const ms = lastMs + (counter >>> 12)
  if (used + 8 > pool.length) {
    crypto.getRandomValues(pool)
    used = 0
  }
  // Time (48 bits), version and counter (4 + 12), variant and random (2 + 62).
  let out = ms.toString(16).padStart(12, '0')
  out = `${out.slice(0, 8)}-${out.slice(8)}-7${(counter & 0xfff).toString(16).padStart(3, '0')}-${hex[0x80 | (pool[used]! & 0x3f)]}${hex[pool[used + 1]!]}-`
  for (let i = 2; i < 8; i++) out += hex[pool[used + i]!]
  used += 8
  return out
}

const letters = 'abcdefghijklmnopqrstuvwxyz'

/** Eight letters and digits, the first a letter (40 bits): for what must only differ from its few neighbours. */
export function shortId(): string {
  const bytes = crypto.getRandomValues(new Uint8Array(8))
  return Array.from(bytes, (b, i) => (i === 0 ? letters[b % 26] : (b % 36).toString(36))).join('')
}

/** A name people give: 1 to 120 characters, no control characters, no space at either end. */
export const Name = z
  .string({ error: 'Give it a name' })
  .trim()
  .min(1, 'Give it a name')
  .max(120, 'At most 120 characters')
  .refine((s) => !/\p{Cc}/u.test(s), 'No control characters, please')

/** Under which name somebody connects to a broker or a stream. */
export const ClientId = z
  .string()
  .trim()
  .min(1, 'Which client id?')
  .max(200)
  .regex(/^[^\p{Cc}]+$/u)
