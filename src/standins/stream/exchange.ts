import type { ErrorCode, RequestName } from './api'
import type { Faults } from './faults'
import type { ReaderGroups } from './groups'
import type { Topics, Truth } from './log'
import type { Reader, Writer } from './octets'
import type { Unpacking } from './records'

/** Who may do what with which topics, by what their names begin with. */
export interface Permissions {
  write: readonly string[]
  read: readonly string[]
}

/** What all requests can reach. */
export interface Cluster {
  topics: Topics
  groups: ReaderGroups
  truth: Truth
  faults: Faults
  unpacking: Unpacking
  /** Nodes as clients of one listener reach them. */
  nodes(listener: string): readonly { id: number; host: string; port: number }[]
  permissions(user: string): Permissions
  nextProducerId(): bigint
  /** Ids of topics are told, as newer clusters do. */
  tellsIds: boolean
}

/** One request, with whom it came from. */
export interface Exchange {
  cluster: Cluster
  read: Reader
  write: Writer
  version: number
  clientId: string
  user: string
  /** Which node was asked, over which listener. */
  node: number
  listener: string
  /** Resolves when the client is gone. */
  gone: Promise<void>
}

/** What comes of it: an answer, none, or an answer that is lost with the connection. */
export type Outcome = 'answer' | 'nothing' | 'lost'
export type Handler = (e: Exchange) => Outcome | Promise<Outcome>
export type Handlers = Readonly<Partial<Record<RequestName, Handler>>>

export const may = (e: Exchange, what: keyof Permissions, topic: string): boolean =>
  e.cluster.permissions(e.user)[what].some((prefix) => topic.startsWith(prefix))

/** The error that a fault wants for a topic; null: none. */
export function faultOf({ cluster }: Exchange, topic: string): ErrorCode | null {
  const { errorOn, error } = cluster.faults.settings
  return errorOn !== '' && topic.includes(errorOn) ? (error as ErrorCode) : null
}
