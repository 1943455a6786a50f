import type { Failure } from '~/contract/failure'
import type { WitnessView } from '~/core/delivery/account'

/** One copy of something, read at the far end of a destination. */
export interface FarSighting {
  /** The id that it carries; null: none. */
  id: string | null
  /** Empty: it is not told where. */
  topic: string
  /** Null: its payload is not told. */
  digest: number | null
  /** Epoch ms. */
  at: number
  /** The same by the monotonic clock. */
  mono: number
  /** Nobody can say whether it is a copy of its own or one that was handed out before: it may be counted, never held against anybody. */
  repeated: boolean
  /** It came with what was held from before, perhaps of an older state of the other side: of a message that went out once it can only be a repetition. */
  held: boolean
  /** Unless it is let go of, the other side hands it out again over the next connection. */
  comesAgain: boolean
  /** To be given back by `safe`. */
  token: unknown
}

/** How far an earlier run has come, in the words of its kind; null: there was none. `forget`: nobody knows, and the other side is to begin anew. */
export type Position = Uint8Array | 'forget' | null

/** What is known of a message by its id. */
export interface Acquaintance {
  /** A copy of it has been counted. */
  arrived: boolean
  /** It was sent once at most: a second copy is not of our making. */
  once: boolean
}

export interface FarSink {
  sighting(s: FarSighting): void
  acquaintance(id: string): Acquaintance | null
  /** The connection is lost. */
  lost(why: Failure): void
  /** What was seen should be written at once: the other side hands out no more before that. */
  hurry(): void
  /** Something that holds many messages cannot be read as it was written, for this reason. */
  damaged(what: string, why: string): void
  /** Something may have passed unseen, for this reason: of what went out until now nobody can say whether it arrived. */
  unseen(why: Failure): void
  /** Filters that may not be read, with the reason; all of them, each time. */
  refused(filters: ReadonlyMap<string, string>): void
}

/**
 * Reads back what arrived at one destination, over one connection at a time. It never retries. How far it has come is
 * written in the ledger's transaction, in its own words; what it is told is `safe` it lets go of at the other side.
 */
export interface FarEnd {
  /** Takes up where an earlier run was, or has the other side forget all of it; before the first connection. */
  restore(position: Position): void
  /**
   * It is going to connect; called before, and `connect` only when the position has been written since: whoever takes up
   * from there knows that the other side may be in a state that nobody wrote down.
   */
  prepare(): void
  /** Connects and listens; rejects with a FailureError. */
  connect(): Promise<void>
  /** What is to be seen from now on; resolves when it is, or is refused, or the connection is lost. */
  watch(filters: readonly string[]): Promise<void>
  /** What it can say now; null while it is away. */
  view(): WitnessView | null
  /** Finds out whether something is still held back for it. */
  probe(): void
  /** Ms for which the other side has not answered a probe. */
  silentMs(): number
  /** How far it has come, to be written; null when nothing changed since the last call. */
  position(): Uint8Array | null
  /** A sighting was counted as that message, which went out at `sentMono` (null: not known any more); it is not written yet. */
  counted(token: unknown, delivery: number, seq: number, sentMono: number | null): void
  /** A sighting is written. */
  safe(token: unknown): void
  /** Messages on these have been judged: what only they needed may be let go. */
  release(needed: readonly string[]): void
  /** Resolves when all is told that has come and comes to nobody again; before it is closed for good. */
  drain?(): Promise<void>
  close(): void
}
