import { z } from 'zod'
import { Mishaps, mishapFields, rate } from '../mishaps'

/** What goes wrong at the object store. Rates are shares, 0 to 1; with the same seed the same sequence of chances. */
export const ObjectFaults = z.strictObject({
  ...mishapFields,
  /** Nobody's key is known. */
  refuseLogins: z.boolean().default(false),
  /** Share of requests to keep something that are done, and whose answer is lost with the connection. */
  loseAnswer: rate,
  /** Share of those that are answered with 500 though they were done. */
  failAfter: rate,
  /** Keys that hold this text are answered with `code` and `status`; empty: none. */
  errorOn: z.string().max(200).default(''),
  status: z.number().int().min(300).max(599).default(403),
  code: z.string().max(60).default('AccessDenied'),
  /** Nothing more is kept: there is no room. */
  full: z.boolean().default(false),
  /** It wants fewer requests. */
  busy: z.boolean().default(false),
  /** Checksums of what is kept are none of its octets, as where a store has keys of its own. */
  ownSums: z.boolean().default(false),
  /** How far its clock is ahead, s. */
  clockS: z.number().int().min(-86_400).max(86_400).default(0),
})
export type ObjectFaults = z.infer<typeof ObjectFaults>
export const noObjectFaults: ObjectFaults = ObjectFaults.parse({})

/** Decides by chance, from a seed. */
export class Faults extends Mishaps<ObjectFaults> {
  constructor() {
    super(noObjectFaults)
  }

  /** Octets with a digit among them changed, so that what they say is still read and is not what was sent; else any one changed. */
  altered(octets: Buffer): Buffer {
    const out = Buffer.from(octets)
    const digits = [...out.keys()].filter((i) => out[i]! >= 0x30 && out[i]! <= 0x38 && out[i - 1] === 0x3a)
    const at = digits.length > 0 ? digits[Math.floor(this.random() * digits.length)]! : Math.floor(this.random() * out.length)
    if (out.length > 0) out[at] = digits.length > 0 ? out[at]! + 1 : out[at]! ^ 1
    return out
  }
}
