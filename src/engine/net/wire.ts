/** A connection that octets go over, whatever is beneath it. */
export interface Wire {
  write(bytes: Uint8Array): void
  /** Octets handed over and not taken by the network yet. */
  readonly pending: number
  /** Says all that was written, then ends. */
  end(): void
  /** Ends now; `why` is what `closed` hears. */
  destroy(why?: unknown): void
}

export interface WireSink {
  data(chunk: Uint8Array): void
  /** The network takes more again, after `pending` had grown. */
  drained(): void
  /** Called once, at the end, whoever ended it. */
  closed(why: unknown): void
}

/** Opens a wire to an address; rejects when it cannot, or within bounded time. */
export type Dial<Address> = (address: Address, sink: WireSink) => Promise<Wire>
