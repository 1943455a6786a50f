import { z } from 'zod'

/** UUIDv7 (RFC 9562 5.7): the identity of every stored thing; names are for people. */
export const Id = z.uuid()
export type Id = string

/** Milliseconds since 1970-01-01T00:00:00Z. */
export type EpochMs = number

let lastMs = 0
let counter = 0

/** Makes a UUIDv7; within one process later ids sort after earlier ones. */
export function newId(now: EpochMs = Date.now()): Id {
  if (now > lastMs) {
    lastMs = now
    counter = 0
  } else counter++
  const ms = lastMs + (counter >>> 12)
  const bytes = crypto.getRandomValues(new Uint8Array(16))
  for (let i = 0; i < 6; i++) bytes[i] = Math.floor(ms / 2 ** (8 * (5 - i))) & 0xff
  bytes[6] = 0x70 | ((counter >>> 8) & 0x0f)
  bytes[7] = counter & 0xff
  bytes[8] = 0x80 | (bytes[8]! & 0x3f)
  const hex = Array.from(bytes, (b) => b.toString(16).padStart(2, '0')).join('')
  return `${hex.slice(0, 8)}-${hex.slice(8, 12)}-${hex.slice(12, 16)}-${hex.slice(16, 20)}-${hex.slice(20)}`
}

/** A name people give: 1 to 120 characters, no control characters, no space at either end. */
export const Name = z
  .string({ error: 'Give it a name' })
  .trim()
  .min(1, 'Give it a name')
  .max(120, 'At most 120 characters')
  .refine((s) => !/\p{Cc}/u.test(s), 'No control characters, please')
