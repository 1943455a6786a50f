import { createHash } from 'node:crypto'
import type { Fate } from './faults'
import type { Message } from './message'

/** One message that the broker took from a publisher. */
export interface Arrival {
  /** Counts up by one a message. */
  n: number
  /** Epoch ms. */
  at: number
  from: string
  topic: string
  qos: 0 | 1 | 2
  /** What tells it from others: the value of the id property, or what the log was told to take. */
  key: string | null
  /** First 16 hex digits of the payload's SHA-256. */
  hash: string
  /** What became of the acknowledgement to the publisher. */
  ack: 'none' | 'sent' | 'dropped'
}

/** One copy of a message for one client: what was done to it, and when it was put on the wire and acknowledged (epoch ms). */
export interface Copy {
  arrival: number
  client: string
  fate: Fate
  /** Position among all copies, in the order in which clients get them; null for one that is dropped. */
  order: number | null
  sentAt: number | null
  ackedAt: number | null
}

/**
 * The broker's own log of exactly what it received and what it did to each delivery. It knows nothing of who reads it:
 * the ground truth against which a ledger can be held.
 */
export class Truth {
  arrivals: Arrival[] = []
  copies: Copy[] = []
  private nextArrival = 1
  private nextOrder = 1

  /** Keeps the last `limit` messages and deliveries; with 0 it keeps none, and hashes nothing. */
  constructor(
    private readonly limit: number,
    private readonly keyOf: (m: Message) => string | null,
  ) {}

  arrived(m: Message): Arrival | null {
    if (this.limit === 0) return null
    const hash = createHash('sha256').update(m.payload).digest('hex').slice(0, 16)
    const { topic, qos, from } = m
    const arrival: Arrival = { n: this.nextArrival++, at: Date.now(), from, topic, qos, key: this.keyOf(m), hash, ack: 'none' }
    this.arrivals.push(arrival)
    if (this.arrivals.length > this.limit * 1.25) this.arrivals.splice(0, this.arrivals.length - this.limit)
    return arrival
  }

  copy(arrival: Arrival | null, client: string, fate: Fate): Copy | null {
    if (!arrival) return null
    const order = fate === 'dropped' ? null : this.nextOrder++
    const copy: Copy = { arrival: arrival.n, client, fate, order, sentAt: null, ackedAt: null }
    this.copies.push(copy)
    if (this.copies.length > this.limit * 1.25) this.copies.splice(0, this.copies.length - this.limit)
    return copy
  }
}
