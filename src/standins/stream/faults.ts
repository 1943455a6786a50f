import { z } from 'zod'
import { Mishaps, mishapFields, rate } from '../mishaps'

/** What goes wrong at the stream. Rates are shares, 0 to 1; with the same seed the same sequence of chances. */
export const StreamFaults = z.strictObject({
  ...mishapFields,
  refuseLogins: z.boolean().default(false),
  /** Share of requests to keep something that are done, and whose answer is lost with the connection. */
  loseAnswer: rate,
  /** Topics that hold this text answer with `error`; empty: none. */
  errorOn: z.string().max(200).default(''),
  /** A number of the protocol; 7: the request timed out. */
  error: z.number().int().min(-1).max(200).default(7),
  /** Clients are told to wait so long, ms. */
  throttleMs: z.number().int().min(0).max(60_000).default(0),
  /** The disk is full: nothing is kept. */
  full: z.boolean().default(false),
  /** Octets of a batch at most. */
  maximumBatch: z
    .number()
    .int()
    .min(100)
    .max(64 << 20)
    .default(1 << 20),
})
export type StreamFaults = z.infer<typeof StreamFaults>
export const noStreamFaults: StreamFaults = StreamFaults.parse({})

/** Decides by chance, from a seed. */
export class Faults extends Mishaps<StreamFaults> {
  constructor() {
    super(noStreamFaults)
  }

  losesAnswer(): boolean {
    return this.happens(this.settings.loseAnswer)
  }

  /** Octets with one of them changed. */
  altered(octets: Buffer | null): Buffer {
    const copy = Buffer.from(octets ?? [0])
    if (copy.length === 0) return Buffer.from([0x21])
    const at = Math.floor(this.random() * copy.length)
    copy[at] = copy[at]! ^ 0x01
    return copy
  }
}
