import type { Destination, DestinationKind, DestinationSettings } from '~/contract/destination'
import type { CheckStep, Failure } from '~/contract/failure'
import type { OwnView } from '~/contract/own-view'
import type { DayCount } from '~/core/delivery/delivery-store'
import type { Assurance, Envelope } from '~/core/delivery/envelope'
import type { PeerTime } from '~/core/proof/peer-time'
import type { NeededSchema, RegisteredSchema } from '~/core/publication/registered'
import type { OpenCredential } from '~/store/credential'
import type { Clock } from '../clock/clock'
import type { FarEnd, FarSink } from './far-end'
import type { NodeSession } from './session'

/** A destination with its credentials opened; for drivers only. */
export interface DestinationTarget<K extends DestinationKind = DestinationKind> {
  /** Null: it is not stored yet. */
  id: string | null
  name: string
  settings: DestinationSettings[K]
  authority: OpenCredential | null
  credential: OpenCredential | null
  witnessCredential: OpenCredential | null
  /** Further credentials of the kind, by their fields; null: none is chosen. */
  more?: Readonly<Record<string, OpenCredential | null>>
}

/** What one publication sends there, for a check. */
export interface PlannedSend {
  publication: string
  topic: string
  assurance: Assurance
  /** The destination is to keep the last of the place for who comes later. */
  kept: boolean
  /** Octets of a payload of late; null: none has been made. */
  bytes: number | null
}

/** What a destination is to be good for. */
export interface Planned {
  /** What the witness is to read. */
  filters: readonly string[]
  sends: readonly PlannedSend[]
  /** The other destinations of this installation. */
  others: readonly Destination[]
  /** It is connected by just these settings now. */
  connected?: boolean
}

/** What the destination says to one message, once. No answer at all: the link was lost, and nobody knows. */
export type Answer =
  /** It has it. */
  | { kind: 'has' }
  /** It is on its way, and nobody there ever says more. */
  | { kind: 'sent' }
  /** It went out, the link was lost, and what may have arrived must not go out again, since it is only to be sent. */
  | { kind: 'left' }
  /** Never, for this message. */
  | { kind: 'refused'; failure: Failure }
  /**
   * Not now: try this one again in a while, after `waitMs` at the earliest; with `place` only what goes to its place waits meanwhile,
   * else all do.
   */
  | { kind: 'later'; failure: Failure; place?: boolean; waitMs?: number }

export interface DestinationSink {
  /** The link is lost: what had no answer by then goes out again. */
  down(failure: Failure): void
  /** It takes messages again, after `ready` was false. */
  ready(): void
  /** The connection is to be another one: it is changed over when nothing is under way. */
  anew(): void
  /** Calls back when all that has been answered so far is safely written. */
  durable(then: () => void): void
  /** Epoch ms. */
  wall(): number
  /** The other side wants something of us, or does not let us hear what it wants: people are told, with what to do. */
  asked(words: string, hint: string): void
  /** The connection stands and takes nothing yet, for this reason. */
  waits(failure: Failure): void
  /** Whether it is written that a message as far on as this may go out; else `ready` is told when it is. */
  mayGoOut(ordinal: number): boolean
  /** Positions of messages of an earlier run that are done, though perhaps not to the last step: `n` before the oldest that is not, and all after. */
  doneLately(n: number): Iterable<number>
}

export interface Outgoing {
  envelope: Envelope
  id: string
  /** Its position among all that ever went through this outbox. */
  ordinal: number
  /** It went out on an earlier connection, and had no answer there. */
  again: boolean
  /** An earlier run may have sent it: nobody knows. */
  inDoubt: boolean
  /** It is looked whether the link is lost on just this one: nothing is to go with it. */
  alone: boolean
}

export interface DestinationConnection {
  /** It gives up by itself what has no answer in time, since what it holds may wait here for its turn; else whoever sends does. */
  readonly keepsTime?: boolean
  /** Most messages that may be under way at once. */
  window: number
  /** Why the other side cannot take this one, known before it goes out; null: as far as is known it can. */
  unfit(m: Outgoing): Failure | null
  send(m: Outgoing, answer: (a: Answer) => void): void
  /** False while the wire can't take more, or not this one: `sink.ready` tells when it can. */
  ready(ordinal: number, e: Envelope): boolean
  /** Resolves when the other side has shown that it heard all that was said so far. */
  heard(): Promise<void>
  /** Nothing more is handed over before something has its answer: what is gathered here goes now, all of it or as it likes. */
  hurry?(all: boolean): void
  /** What the other side told last of its own time; null: nothing yet. Kinds that are told none have none. */
  peerTime?(): PeerTime | null
  close(): void
}

/** What a driver remembers of one destination from one connection to the next. */
export type Remembered = Map<string, unknown>

export interface OpenOptions {
  sink: DestinationSink
  clock: Clock
  /**
   * With a session the connection has its will, and its births have gone out; `number` ties the two, and is used up as soon as
   * the other side knows of it.
   */
  session: { of: NodeSession; number: number; used(): void } | null
  /** Nobody wants this connection any more: whoever waits for something on it gives up. */
  over(): boolean
  remembered: Remembered
  /** What went out on the last day on which anything did, over all runs. */
  days: { load(): Promise<DayCount | null>; keep(d: DayCount): Promise<void> }
  /** What the other side remembers of this sender is not to be gone on with: nobody here knows it any more. */
  anew: boolean
}

/** One kind of destination. */
export interface DestinationDriver<K extends DestinationKind = DestinationKind> {
  /** What goes again is taken there for what it is, and kept once: a copy may come from any of its sendings. */
  readonly keepsOnce?: true
  /** Whether messages carry their id there; else the witness goes by topic and payload. */
  carriesId(settings: DestinationSettings[K]): boolean
  /** How a connection is protected, in few words. */
  protection(target: DestinationTarget<K>): string
  /** Whose permissions decide whether messages get there, and whether they are read back. */
  rights(settings: DestinationSettings[K], reads: readonly string[]): string
  /** Within what order holds: messages that differ in it may pass each other. */
  within(e: Envelope): string
  /** How a message goes there beside its place: the other side may dislike one that goes so, and take another. */
  manner(e: Envelope): string
  /** A message to people: where it goes, and how. */
  described(e: Envelope): string
  /** By which digest a witness there knows a message again that is kept otherwise than it was sent; null, or none: by that of its payload. */
  digest?(e: Envelope): number | null
  /** Where to look when the other side hangs up on a message. */
  dislikes: string
  /** Tries everything in order, the witness too, and yields each step as running and as done. Harmless; saves nothing. */
  check(target: DestinationTarget<K>, planned: Planned): AsyncGenerator<CheckStep>
  /** Has the registry of the destination know schemas; rejects with a FailureError that says why not. Absent: it has none. */
  register?(target: DestinationTarget<K>, needed: readonly NeededSchema[], clock: Clock): Promise<RegisteredSchema[]>
  /** Asks what the far end itself knows of this sender; rejects with a FailureError that says why not. Absent: it tells nothing. */
  ownView?(target: DestinationTarget<K>, clock: Clock): Promise<OwnView>
  /** Connects; rejects with a FailureError that says why not. */
  open(target: DestinationTarget<K>, o: OpenOptions): Promise<DestinationConnection>
  /** Whether the two reach the same place as the same client: then a change needs no new connection. */
  sameSender(a: DestinationTarget<K>, b: DestinationTarget<K>): boolean
  sameWitness(a: DestinationTarget<K>, b: DestinationTarget<K>): boolean
  /** The far end, to be read back. */
  farEnd(target: DestinationTarget<K>, sink: FarSink, clock: Clock, remembered: Remembered): FarEnd
}
