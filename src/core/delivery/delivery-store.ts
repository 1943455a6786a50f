import type { AccountChange } from './account-changes'
import type { Histogram } from './histogram'
import type { Standing } from './verdict'

/** How a segment's body is packed: 0 as it is, 1 deflate (RFC 1951) level 1. */
export type Codec = 0 | 1

export interface SegmentWrite {
  segment: number
  count: number
  codec: Codec
  rawBytes: number
  body: Uint8Array
  /** Position of its first message among all that ever went through this outbox. */
  ordinal: number
  /** As `rangesOf` writes it. */
  ranges: string
}

export interface SegmentRow extends Omit<SegmentWrite, 'body' | 'codec'> {
  bodyBytes: number
  /** How long ago it was written, by the clock of the store, ms. */
  ageMs: number
}

export interface Cursor {
  /** The oldest segment that isn't wholly acknowledged. */
  segment: number
  /** How many of its messages, from the first, are. */
  done: number
  /** The newest segment whose messages are counted in the ledger's slices. */
  countedSegment: number
  /** Position that the next message would have. */
  ordinal: number
  /** None beyond this position, and beyond the first `AHEAD`, that is to be passed on once has gone out. */
  announced: number
}

/**
 * Positions by which messages that are to be passed on once may run ahead of what is written, and of the oldest that the other side may still hold. Three
 * of these and one more are the 65,535 packet identifiers of MQTT (2.2.1): no identifier can then mean two messages.
 */
export const AHEAD = 21_844

/** What changed in one outbox. */
export interface OutboxWrite {
  destinationId: string
  cursor: Cursor
  /** Segments of which nothing is kept. */
  remove: number[]
  /** Segments that go into the journal: every message in them has its fate. */
  keep: KeptSegment[]
}

export interface KeptSegment {
  segment: number
  /** As `HopTimes` writes it; null: nothing is known of its hops. */
  hops: Uint8Array | null
}

/** All that changed since the flush before, written in one transaction. */
export interface FlushWrite {
  /** Counts up by one a flush: one that comes again (its answer got lost) is found to be there. */
  number: number
  changes: AccountChange[]
  latencies: { delivery: number; minute: number; histogram: Histogram }[]
  /** How far each witness has come, in its own words. */
  positions: { destinationId: string; position: Uint8Array }[]
  outboxes: OutboxWrite[]
}

/** What was removed from a journal. */
export interface Trimmed {
  rows: number
  bytes: number
  messages: number
}

/** What went out on one day to a destination that counts it. */
export interface DayCount {
  /** Days since 1970, UTC. */
  day: number
  count: number
}

/** Thrown when another engine has taken over: this one may not write any more. */
export class Fenced extends Error {
  constructor() {
    super('another engine has taken over this database')
  }
}

/**
 * The transactions that delivery needs, and no other. Each either happens as a whole or throws; one that throws may have
 * happened all the same (its answer got lost), and is safe to do again. All writes carry the epoch of the engine.
 */
export interface DeliveryStore {
  /** Writes one segment; the same one again changes nothing. */
  append(destinationId: string, s: SegmentWrite): Promise<void>
  /** Null: it is not there. */
  readSegment(destinationId: string, segment: number): Promise<{ codec: Codec; body: Uint8Array } | null>
  loadOutbox(destinationId: string): Promise<{ cursor: Cursor; segments: SegmentRow[] }>
  loadLedger(sinceMinute: number): Promise<{
    flush: number
    standings: Map<number, Standing>
    /** The highest number of each delivery in the outboxes that is not counted yet: it is given, whoever counts it later. */
    given: Map<number, number>
    latencies: { delivery: number; minute: number; histogram: Histogram }[]
  }>
  flush(w: FlushWrite): Promise<void>
  /** Octets that the journal of a destination holds. */
  journalBytes(destinationId: string): Promise<number>
  /** Removes some of what has been longer in the journal than that, and of the oldest until so many octets are free. */
  trimJournal(destinationId: string, over: { ageMs: number; bytes: number }): Promise<Trimmed>
  loadPosition(destinationId: string): Promise<Uint8Array | null>
  /** The next number that ties births and deaths of the edge node on a destination: 0 to 255, round and round. */
  nextBirth(destinationId: string): Promise<number>
  /** What was last kept of a destination; null: nothing. */
  loadDay(destinationId: string): Promise<DayCount | null>
  /** A day never becomes an earlier one, nor its count less. */
  keepDay(destinationId: string, d: DayCount): Promise<void>
}

/** What keeps the store from writing, in words of its own for each. */
export type StoreTrouble = 'away' | 'silent' | 'full' | 'failed'
