import { z } from 'zod'
import type { Role } from '../role'

/** One endpoint. `role` is the least that may call it; null: anybody. `:name` in the path is a parameter. */
export interface Route {
  method: 'GET' | 'POST' | 'PUT' | 'PATCH' | 'DELETE'
  path: string
  role: Role | null
  group: string
  summary: string
  query?: z.ZodObject
  body?: z.ZodType
  /** The largest body, MB; 8 when nothing is said. */
  bodyMax?: number
  /** Set when the body is text of this type, handed on as bytes, instead of JSON. */
  from?: 'text/csv'
  /** What comes back; null: nothing (204). */
  answer: z.ZodType | null
  /** Set when the answer is a stream of such things instead of one. */
  stream?: 'ndjson' | 'sse'
  /** Set when the answer is of this type instead of JSON. */
  as?: 'text/csv' | 'application/octet-stream'
}

/** Which version of a thing an edit began with: refused when somebody else has changed it since. Without it the last one wins. */
export const Begun = z.object({ version: z.coerce.number().int().optional() })

export const list = <T extends z.ZodType>(of: T) => z.array(of)
