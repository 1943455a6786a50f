import { z } from 'zod'
import { chance } from '~/core/value/chance'

const rate = z.number().min(0).max(1).default(0)

/** What goes wrong at the broker. Rates are shares, 0 to 1; with the same seed the same sequence of chances. */
export const BrokerFaults = z.strictObject({
  seed: z.number().int().default(1),
  /** Everything a client sends is heard so much later, ms. */
  slowMs: z.number().min(0).max(60_000).default(0),
  refuseLogins: z.boolean().default(false),
  /** Only deliveries to this client id, when given. */
  client: z.string().nullable().default(null),
  drop: rate,
  double: rate,
  delay: rate,
  delayMs: z.number().min(0).max(600_000).default(2000),
  reorder: rate,
  alter: rate,
  /** Share of acknowledgements to publishers that are not sent. */
  dropAcks: rate,
  /** Share of acknowledgements after which the connection is closed. */
  closeAfterAck: rate,
  // Habits, each of some broker that somebody has.
  /** Most deliveries to one client without acknowledgement, whatever it allows; 0: as it allows. */
  inFlight: z.number().int().min(0).max(65_535).default(0),
  /** Repeats deliveries under new packet identifiers (against MQTT 5 4.4). */
  renumber: z.boolean().default(false),
  /** Takes so long to answer to a subscription, ms. */
  subackMs: z.number().min(0).max(600_000).default(0),
  /** Refuses filters that hold this text; empty: none. */
  refuseFilter: z.string().max(200).default(''),
  /** Grants filters that hold this text, and hands out nothing for them. */
  hollowFilter: z.string().max(200).default(''),
  /** Hangs up on messages to topics that hold this text. */
  hangUpOn: z.string().max(200).default(''),
  /** Takes and acknowledges messages to topics that hold this text, and passes them to nobody. */
  swallow: z.string().max(200).default(''),
  /** Says that a quota is used up, to every message (MQTT 5). */
  quota: z.boolean().default(false),
  /** Hands topics out with dots and slashes exchanged. */
  exchangeDots: z.boolean().default(false),
  /** What its greeting allows (MQTT 5 3.2.2.3); it hangs up on what goes beyond. 0: no limit to the size of packets. */
  maximumQos: z.number().int().min(0).max(2).default(2),
  retainAvailable: z.boolean().default(true),
  maximumPacketSize: z.number().int().min(0).default(0),
  /** Speaks 3.1.1 only. */
  oldOnly: z.boolean().default(false),
})
export type BrokerFaults = z.infer<typeof BrokerFaults>

/** What is done to one delivery. */
export type Fate = 'delivered' | 'dropped' | 'doubled' | 'delayed' | 'reordered' | 'altered'

export const noFaults: BrokerFaults = BrokerFaults.parse({})

/** Decides by chance, from a seed. */
export class Faults {
  private random = chance(noFaults.seed)
  settings: BrokerFaults = noFaults

  set(settings: BrokerFaults): void {
    this.settings = settings
    this.random = chance(settings.seed)
  }

  fate(client: string): Fate {
    const s = this.settings
    if (s.client !== null && s.client !== client) return 'delivered'
    let n = this.random()
    for (const [share, fate] of [
      [s.drop, 'dropped'],
      [s.double, 'doubled'],
      [s.delay, 'delayed'],
      [s.reorder, 'reordered'],
      [s.alter, 'altered'],
    ] as const) {
      if (n < share) return fate
      n -= share
    }
    return 'delivered'
  }

  dropsAck(): boolean {
    return this.settings.dropAcks > 0 && this.random() < this.settings.dropAcks
  }

  closesAfterAck(): boolean {
    return this.settings.closeAfterAck > 0 && this.random() < this.settings.closeAfterAck
  }

  /** How many later deliveries pass a reordered one. */
  passing(): number {
    return 1 + Math.floor(this.random() * 3)
  }

  /** The payload with one octet changed. */
  altered(payload: Buffer): Buffer {
    if (payload.length === 0) return Buffer.from([0x21])
    const copy = Buffer.from(payload)
    const at = Math.floor(this.random() * copy.length)
    copy[at] = copy[at]! ^ 0x01
    return copy
  }
}
