import type { DestinationDraft } from '~/contract/destination'
import type { CheckStep, Failure } from '~/contract/failure'
import type { Envelope } from '~/core/delivery/envelope'
import type { OpenCredential } from '~/store/credential'
import type { NodeSession } from './session'

/** A destination with its credentials opened; for drivers only. */
export interface DestinationTarget {
  name: string
  settings: DestinationDraft['settings']
  authority: OpenCredential | null
  credential: OpenCredential | null
  witnessCredential: OpenCredential | null
}

export interface DestinationSink {
  /** The link is lost: nothing sent since counts as acknowledged unless it was reported so. */
  down(failure: Failure): void
}

export interface DestinationConnection {
  /** Most messages that may be under way at once. */
  window: number
  /** Hands one message to the wire; `done` is called once: without failure when the destination has it, with one when it refused it for good. */
  send(envelope: Envelope, id: string, done: (refused: Failure | null) => void): void
  /** False while the wire can't take more; `onReady` is called once when it can again. */
  ready(onReady: () => void): boolean
  close(): Promise<void>
}

/** One kind of destination. */
export interface DestinationDriver {
  /** Whether messages carry their id there; else the witness goes by topic and payload. */
  carriesId(settings: DestinationTarget['settings']): boolean
  /** Tries everything in order, the witness too, and yields each step as running and as done. Sends nothing, saves nothing. */
  check(target: DestinationTarget, filters: readonly string[]): AsyncGenerator<CheckStep>
  /**
   * Connects; rejects with a FailureError that says why not. With a session the connection has its will, and its births have
   * gone out; `number` ties the two.
   */
  open(target: DestinationTarget, sink: DestinationSink, session: { of: NodeSession; number: number } | null): Promise<DestinationConnection>
}
