import { z } from 'zod'

/** A whole number beyond 2^53 in JSON, where a number would be rounded: its digits. From -2^63 to 2^64 - 1. */
export const WireWhole = z.object({ whole: z.string().regex(/^-?\d{16,20}$/, 'A whole number in digits') })

/** A value on the line between engine, web server and browser. */
export const WireScalar = z.union([z.number(), z.string(), z.boolean(), z.null(), WireWhole])
export type WireScalar = z.infer<typeof WireScalar>
