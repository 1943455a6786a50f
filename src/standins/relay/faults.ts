import { z } from 'zod'
import { Mishaps, mishapFields, rate } from '../mishaps'

/** What goes wrong at the relay. Rates are shares, 0 to 1; with the same seed the same sequence of chances. */
export const RelayFaults = z.strictObject({
  ...mishapFields,
  /** Share of those that are handed on after the next one. */
  reorder: rate,
  /** It hears and hands on nothing. */
  deaf: z.boolean().default(false),
})
export type RelayFaults = z.infer<typeof RelayFaults>
export const noRelayFaults: RelayFaults = RelayFaults.parse({})

/** Decides by chance, from a seed. */
export class Faults extends Mishaps<RelayFaults> {
  constructor() {
    super(noRelayFaults)
  }

  /** Octets with any one of them changed. */
  altered(octets: Buffer): Buffer {
    const out = Buffer.from(octets)
    const at = Math.floor(this.random() * out.length)
    if (out.length > 0) out[at] = out[at]! ^ 1
    return out
  }
}
