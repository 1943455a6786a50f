import { z } from 'zod'
import { Mishaps } from '../mishaps'

const rate = z.number().min(0).max(1).default(0)

/** What goes wrong at the relay. Rates are shares, 0 to 1; with the same seed the same sequence of chances. */
export const RelayFaults = z.strictObject({
  seed: z.number().int().default(1),
  /** Everything is handed on so much later, ms. */
  slowMs: z.number().min(0).max(120_000).default(0),
  /** Datagrams that are not handed on, handed on twice, or with one octet changed. */
  drop: rate,
  double: rate,
  alter: rate,
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
