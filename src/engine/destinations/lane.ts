import type { Lane } from '~/contract/destination'
import type { Failure } from '~/contract/failure'
import type { DeliveryStore, StoreTrouble } from '~/core/delivery/delivery-store'
import type { Envelope } from '~/core/delivery/envelope'
import type { Clock } from '../clock/clock'
import type { Ledger } from '../ledger/ledger'
import type { Outbox } from '../outbox/outbox'
import type { Packing } from '../outbox/packing'
import type { TopicIndex } from '../witness/topics'
import type { DestinationDriver, DestinationTarget, Remembered } from './driver'
import type { LaneCondition } from './lane-condition'
import type { Suspicion } from './suspicion'

export type Step = 'stored' | 'sent' | 'acknowledged' | 'confirmed'
export type Severity = 'good' | 'note' | 'warning' | 'trouble'

/** A message that went aside: refused for good, or one on which the link was lost again and again. */
export interface Aside {
  destinationId: string
  envelope: Envelope
  failure: Failure
}

/** What a lane has from the engine. */
export interface DestinationContext {
  clock: Clock
  store: DeliveryStore
  packing: Packing
  installation: string
  ledger: Ledger
  driver: DestinationDriver
  event(d: Lane, severity: Severity, code: string, message: string, hint: string): void
  /** Opens its credentials, anew for each try. */
  target(d: Lane): Promise<DestinationTarget>
  /** Whether this engine may send now: it may be that another one has taken over. */
  maySend(): boolean
  /** Whether it may keep its connections: else another engine may need their names. */
  mayHold(): boolean
  fenced(): void
  storeTrouble(who: string, t: { kind: StoreTrouble; words: string; lost: number } | null): void
  troubleOf(e: unknown): StoreTrouble
  /** Hears of every step of a message that somebody watches. */
  step(step: Step, delivery: number, seq: number, at: number): void
  putAside(a: Aside): void
  /** Deliveries that go out on this lane. */
  deliveriesOf(lane: string): readonly number[]
  /** Whether a delivery is still there: the outbox is only sent for those. */
  isThere(delivery: number): boolean
}

/** What the parts of a lane share: those that send, and those that read back. */
export interface LaneParts {
  readonly ctx: DestinationContext
  /** As it is configured now. */
  readonly destination: Lane
  readonly stopped: boolean
  readonly outbox: Outbox
  /** Who writes to which topic there. */
  readonly topics: TopicIndex
  readonly condition: LaneCondition
  readonly suspicion: Suspicion
  /** What sender and witness of this run know of the far end. */
  readonly remembered: Remembered
  /** What the far end remembers of sender and witness from before is to be forgotten with the next connection of each. */
  readonly anew: { sender: boolean; witness: boolean }
  /** How long it is until one more connection may be made there, ms; 0: now, and then it counts as made. */
  connectWait(): number
  /** The far end has forgotten what it knew of the one. */
  begunAnew(of: 'sender' | 'witness'): void
  /** Whether the witness lost its link since then (monotonic ms): the way there may be cut. */
  witnessLostSince(mono: number): boolean
}
