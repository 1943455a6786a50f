import { z } from 'zod'

/** How a key leaves: locked by a pass phrase, in a zip of PEM files or in a store (PKCS#12, RFC 7292). */
export const KeyDownload = z.object({
  form: z.enum(['zip', 'pkcs12']),
  phrase: z.string().min(8, 'At least 8 characters').max(1000),
  password: z.string().min(1, 'Type the one that you log in with').max(1000).describe("One's own, once more"),
})
export type KeyDownload = z.infer<typeof KeyDownload>
