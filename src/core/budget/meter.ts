import type { Assurance } from '../delivery/envelope'

/** A message as it goes to a destination. */
export interface Metered {
  /** When it is made, epoch ms: what is made at once goes out in one piece. */
  at: number
  place: string
  payload: Uint8Array
  /** What travels beside the payload, as the outbox keeps it. */
  properties: string
  assurance: Assurance
  /** Its id, as it goes with it. */
  id: string
}

/** Octets both ways, with all that a protocol and TLS put around messages; what TCP and IP add below is not among them. */
export interface Wire {
  out: number
  back: number
}

/** Reckons what messages are on the wire, one after the other. */
export interface Meter {
  add(m: Metered): void
  /** Of all that were added. */
  wire(): Wire
}

/** What TLS puts around a record (RFC 8446 5.2: header, kind, authentication tag), and how much goes into one, octets. */
const RECORD = { around: 5 + 1 + 16, most: 16_384 }

/** Octets of a piece that is written at once, in records of TLS. */
export const inRecords = (octets: number): number => (octets === 0 ? 0 : octets + Math.ceil(octets / RECORD.most) * RECORD.around)
