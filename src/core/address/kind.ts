import type { AddressKindName, AddressOfKind } from '~/contract/address'
import type { HeaderTemplate, TopicRule } from '~/contract/addresses/text'
import type { DestinationSettings } from '~/contract/destination'
import type { Finding, Plan, PlanMessage, Resolved } from '~/contract/publication'
import type { ShapeSettings } from '~/contract/shape'
import type { Meter } from '../budget/meter'
import type { Assurance } from '../delivery/envelope'
import type { TemplateProblem } from './template'
import type { Levels } from './topic-template'

/** Templates that are filled in for each message; what a kind does not have is empty. */
export interface AddressTexts {
  place: string
  rule: TopicRule
  key: string
  headers: readonly HeaderTemplate[]
  responseTopic: string
}

/** How messages of one address are told in AsyncAPI 3.0, by the bindings of the protocol. */
export interface Bindings {
  protocol: string
  channel: object
  /** `first`: of a message that goes before others, and is kept for who comes later. */
  operation(o: { first: boolean; headers: boolean }): object
  message?: object
}

/** How a receiver reaches the destination, as AsyncAPI 3.0 names it. */
export interface Server {
  host: string
  protocol: string
  /** Empty: it need not be known. */
  version: string
  /** Whether anything can travel beside a payload there. */
  headers: boolean
}

/** One thing that a destination keeps of a publication: at a place, under a key where it has one. */
export interface LeftBehind {
  place: string
  key: string
}

/** How messages of an address go, beside what stands in their texts. */
export interface SentAs {
  assurance: Assurance
  /** The destination is to keep the last of a place for who comes later. */
  kept: boolean
  /** s from when it was made; null: for ever. */
  expiryS: number | null
  /** What else its kind of destination has to know, in a word of its own; empty: nothing. */
  how: string
}

/** What one kind of destination knows of addresses: all that plans, checks and previews ask. */
export interface AddressKind<K extends AddressKindName = AddressKindName> {
  /** What the place of a message is called there, one and many. */
  nouns: readonly [one: string, many: string]
  /** How drafts begin. */
  fresh: AddressOfKind<K>
  /** As near to it as a destination can do; `lost` names what falls away. Absent: each can do all. */
  fitted?(address: AddressOfKind<K>, settings: DestinationSettings[K]): { address: AddressOfKind<K>; lost: string[] }
  /** Fields of the address with the words for them; what has none is not carried from one kind to another. */
  words: Readonly<Record<Exclude<keyof AddressOfKind<K>, 'kind' | 'topic'>, string>>
  levels: Levels
  /** Its places are of a form of their own: what a place elsewhere is called means nothing there. */
  alien?: boolean
  /** The most that the destination itself says of a message. */
  lastWord: 'acknowledged' | 'sent'
  /** Why nothing can go ahead of what waits there, by a second connection; null: it can. */
  together: string | null
  texts(a: AddressOfKind<K>): AddressTexts
  /** Faults of the template of the place. */
  placeProblems(template: string): TemplateProblem[]
  /** What is wrong, or doubtful, with places as they are. */
  placeFindings(places: readonly string[]): Finding[]
  /** What is doubtful in how it is sent. */
  safety(a: AddressOfKind<K>, shape: ShapeSettings): Finding[]
  /** What the destination cannot do for it. */
  beyond(a: AddressOfKind<K>, shape: ShapeSettings, to: DestinationSettings[K]): Finding[]
  /** The address with what the shape prescribes in the place of what was chosen. */
  prescribed(a: AddressOfKind<K>, fixed: Pick<SentAs, 'assurance' | 'kept'>): AddressOfKind<K>
  sentAs(a: AddressOfKind<K>): SentAs
  /** The place of a message that goes before another one, with this after its name. */
  beside(place: string, suffix: string): string
  /** What a witness has to read to see all messages at these places, and at those beside them. */
  reads(places: readonly Resolved[], suffixes: readonly string[], a: AddressOfKind<K>): string[]
  /** Whether two that are read may be the same place. */
  overlap(a: string, b: string): boolean
  /** Whether what waits for values may become this place. */
  mayBecome(resolved: Resolved, place: string): boolean
  /** By what receivers tell one message from another: the place, and what else parts it. */
  apart(m: Pick<PlanMessage, 'place' | 'key'>, text: (r: Resolved) => string): string
  /** What the far end keeps of the plan before, and the new one will not replace. */
  leftBehind(before: Pick<Plan, 'messages'> & { address: AddressOfKind<K> }, after: Pick<Plan, 'messages' | 'address'>): LeftBehind[]
  /** What is left behind there, one and many; and whether it is taken back unless somebody says no. */
  leaves: { nouns: readonly [one: string, many: string]; taken: boolean }
  bindings(a: AddressOfKind<K>): Bindings
  server(settings: DestinationSettings[K]): Server
  /** Reckons what messages are on the wire; null: not over this transport. Absent: nobody has a model of it. */
  meter?(settings: DestinationSettings[K]): Meter | null
  /** Under which name the other side knows who connects: its client id. Absent: it knows none. */
  identity?(settings: DestinationSettings[K], witness: boolean): string
  /** Everywhere a secret of it is sent to: scheme, host and port. */
  reached(settings: DestinationSettings[K]): string[]
  /** What cannot be used of its settings beyond what their schema says, by field; absent: nothing. */
  settingsProblems?(settings: DestinationSettings[K]): Record<string, string>
  /** Where the log-in of the witness is sent to, where that is elsewhere. */
  witnessReached?(settings: DestinationSettings[K]): string[]
  /** Payloads may begin there with the number of their schema in a registry. */
  numbersSchemas?: boolean
  /** Fields of further credentials, beside those that every kind has. */
  furtherCredentials?: readonly (keyof DestinationSettings[K] & string)[]
  /** Of those the ones that are handed over, each to a place of its own. */
  furtherUses?(settings: DestinationSettings[K]): { credentialId: string; field: string; place: string }[]
  /** The setting with which a destination can do less than it could, so that what is live there may not go on; null: it can do all. */
  narrows(settings: DestinationSettings[K]): string | null
  /** In few words, for a sentence. */
  summary(a: AddressOfKind<K>): string
}
