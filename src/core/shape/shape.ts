import type { EpochMs } from '~/contract/id'
import type { PlanEquipment } from '~/contract/publication'
import type { Settings, ShapeKind } from '~/contract/shape'
import type { Assurance } from '../delivery/envelope'
import type { Cell } from '../publication/cells/cell'
import type { Scalar } from '../value/deadband'
import type { Quality } from '../value/quality'

/** What one message is about: some equipment. When it is about a single member, the equipment has only that. */
export interface Scope {
  equipment: readonly PlanEquipment[]
  /** Place of each in the publication, from 0. */
  places: readonly number[]
  /** Who sends; part of ids. */
  publicationId: string
  /** Number of the frozen plan. */
  version: number
  /** Two metrics of the publication have the same alias: names go instead. */
  ambiguousAliases?: boolean
  /** Where the engine runs, for messages about it. */
  host?: HostFacts
  /** What all messages of the plan count together. */
  series?: Series
  /** Number of the schema of the message in a registry. */
  schemaId?: number
}

/**
 * A number that grows by exactly one with each message, over all encoders of a plan. It begins with the number that the first
 * message has within its delivery, so that it also grows over restarts and new versions.
 */
export class Series {
  private last: number | null = null
  next(seq: number): number {
    this.last = (this.last ?? seq - 1) + 1
    return this.last
  }
}

export interface HostFacts {
  name: string
  version: string
  startedAt: EpochMs
}

/** The values of one equipment. Cells are those of its members, in their order, and have been read. */
export interface Part {
  cells: readonly Cell[]
  /** 1 for each member that differs from what was last sent. */
  changed: Uint8Array
}

export interface Input {
  /** One for each equipment of the scope. */
  parts: readonly Part[]
  now: EpochMs
  /** Number of the message within its delivery. */
  seq: number
  /** Whether everything is to be in it, changed or not. */
  whole: boolean
}

export interface Encoded {
  payload: string | Uint8Array
  /** The newest device time among the members; without one the time of making. */
  at: EpochMs
  /** What travels beside the payload, name and value. */
  headers?: [string, string][]
  /** Messages that have to go before it, each to the topic with this after its own; retained. */
  before?: readonly Before[]
}

export interface Before {
  payload: string | Uint8Array
  suffix: string
}

/** Null: there is nothing to say, no message is sent. */
export type Encoder = (input: Input) => Encoded | null

/** One value as it stands in a message. */
export interface Reading {
  /** Name of the equipment where the message tells it. */
  equipment: string | null
  /** Names from the top, parted by dots, as in the plan. */
  member: string
  value: Scalar
  quality: Quality
  /** Why it is not good; empty when nothing is told. */
  reason: string
  time: EpochMs | null
}

export interface DecodedMessage {
  /** What kind of message, where the format has several: `'delta frame'`. */
  kind: string
  at: EpochMs | null
  readings: Reading[]
}
/** Octets that are no such message: what is wrong, and where when that is known. */
export interface Undecodable {
  problem: string
  at: number | null
}
export type Decoded = DecodedMessage | Undecodable
export type Decoder = (bytes: Uint8Array, headers?: Readonly<Record<string, string>>) => Decoded

/** What a receiver needs to know to read the payload. */
export interface Description {
  /** `schema` is a JSON Schema (2020-12); `avro` an Avro schema; `text` words. */
  language: 'schema' | 'avro' | 'text'
  content: unknown
}

/** One payload format. */
export interface Shape<K extends ShapeKind> {
  kind: K
  label: string
  /** The standard that rules it. */
  standard: string
  /** Names that members must not have at the top of the message. */
  reserved(settings: Settings<K>): readonly string[]
  contentType(settings: Settings<K>): string
  /** The payload says whose values they are: places need not tell that. */
  saysWhose?: boolean
  /** What one message is about. */
  grouping(settings: Settings<K>): 'member' | 'equipment' | 'publication'
  /** One line for people. */
  summary(settings: Settings<K>): string
  /** What stands after the topic of messages that go before others, as a topic filter. */
  suffixes?(settings: Settings<K>): readonly string[]
  /** What the standard prescribes, whatever was chosen. */
  fixed?: { assurance: Assurance; kept: boolean }
  /** What is wrong with the settings for these members; empty when nothing. */
  problems?(settings: Settings<K>, equipment: readonly PlanEquipment[]): string[]
  /** What may be lived with, and is better otherwise. */
  doubts?(settings: Settings<K>, equipment: readonly PlanEquipment[]): string[]
  /** `signed-64`: whole numbers above 2^63 - 1 have no place in it; absent: it holds all of 64 bits. */
  wholes?: 'signed-64'
  /** Made once for a message of a plan. */
  encoder(settings: Settings<K>, scope: Scope): Encoder
  decoder(settings: Settings<K>, scope: Scope): Decoder
  /** `all`: the scopes of every message that it has to hold for; they have the same members as `scope`, which is one of them. */
  describe(settings: Settings<K>, scope: Scope, all?: readonly Scope[]): Description
  /** The same of the messages that go before others. */
  describeBefore?(settings: Settings<K>, scope: Scope, all?: readonly Scope[]): Description
  /** Names of what travels beside the payload, with the value where it is always the same. */
  headers?(settings: Settings<K>, all: readonly Scope[]): [string, string | null][]
}
