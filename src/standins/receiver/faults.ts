import { z } from 'zod'
import { Mishaps, mishapFields, rate } from '../mishaps'

/** What goes wrong at the receiver. Rates are shares, 0 to 1; with the same seed the same sequence of chances. */
export const ReceiverFaults = z.strictObject({
  ...mishapFields,
  refuseLogins: z.boolean().default(false),
  /** Share of requests that are kept, and whose answer is lost with the connection. */
  loseAnswer: rate,
  /** Share of requests that are answered with 500 though they were kept. */
  failAfter: rate,
  /** Paths that hold this text are answered with `status`; empty: none. */
  errorOn: z.string().max(200).default(''),
  status: z.number().int().min(200).max(599).default(503),
  /** Clients are asked to wait so long with that, s; 0: not. */
  retryAfterS: z.number().int().min(0).max(3600).default(0),
  /** Where a redirect points; empty: nowhere. */
  location: z.string().max(500).default(''),
  /** Messages that hold this text are refused; empty: none. */
  dislikes: z.string().max(200).default(''),
  /** It hangs up on a request that holds this text, before anything of it is kept; empty: on none. */
  hangsUpOn: z.string().max(200).default(''),
  /** A request that holds one of these is refused as a whole. */
  whole: z.boolean().default(false),
  /** Octets of a request at most. */
  most: z
    .number()
    .int()
    .min(100)
    .max(64 << 20)
    .default(8 << 20),
  /** Nothing more is kept: there is no room. */
  full: z.boolean().default(false),
})
export type ReceiverFaults = z.infer<typeof ReceiverFaults>
export const noReceiverFaults: ReceiverFaults = ReceiverFaults.parse({})

/** Decides by chance, from a seed. */
export class Faults extends Mishaps<ReceiverFaults> {
  constructor() {
    super(noReceiverFaults)
  }

  /** A text with one character changed. */
  altered(text: string): string {
    if (text === '') return '!'
    const at = Math.floor(this.random() * text.length)
    return text.slice(0, at) + (text[at] === '~' ? '-' : '~') + text.slice(at + 1)
  }
}
