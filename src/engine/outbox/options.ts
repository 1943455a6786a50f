import type { DeliveryStore, StoreTrouble } from '~/core/delivery/delivery-store'
import type { Envelope } from '~/core/delivery/envelope'
import type { Clock } from '../clock/clock'
import type { DropRun } from './drop-runs'
import type { Packing } from './packing'

/** Why a message is given up: there is no room, it waited too long, or somebody said so. */
export type DropReason = 'full' | 'old' | 'told'

/** What an outbox tells. */
export interface OutboxHooks {
  stored(envelope: Envelope): void
  /** Given up, since the outbox is full or it waited too long; `acknowledged`: the destination has it, and only its fate is not known. */
  dropped(envelope: Envelope, acknowledged: boolean, why: DropReason): void
  /** Pushed out of memory before they could be stored. */
  lost(run: DropRun): void
  /** The row with these numbers is gone or can't be read. */
  gone(delivery: number, first: number, last: number, why: string): void
  /** What keeps it from storing; null when it stores again. `lost` messages so far were pushed out of memory meanwhile. */
  trouble(trouble: { kind: StoreTrouble; words: string; lost: number } | null): void
  /** So many messages left the journal before their time, since the disk is full. */
  journalGaveWay(messages: number): void
  /** Another engine writes. */
  fenced(): void
}

/** How much may wait, and how much of what has its fate is kept. */
export interface OutboxLimits {
  bytes: number
  /** ms; Infinity: however long. */
  ageMs: number
  journal: JournalLimits
}

/** How much of what went through is kept to be looked at. 0 of either: nothing. */
export interface JournalLimits {
  bytes: number
  ageMs: number
}

export interface OutboxOptions {
  store: DeliveryStore
  clock: Clock
  packing: Packing
  destinationId: string
  limits: OutboxLimits
  hooks: OutboxHooks
  /** What an error of the store means. */
  troubleOf(e: unknown): StoreTrouble
}
