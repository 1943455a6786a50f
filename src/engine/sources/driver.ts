import type { CheckStep, Failure } from '~/contract/failure'
import type { EpochMs } from '~/contract/id'
import type { BrowseNode, SettingsOf, SourceKind } from '~/contract/source'
import type { RegisterLook, RegisterQuery } from '~/contract/sources/modbus'
import type { Heard } from '~/contract/sources/mqtt'
import type { OfferedEndpoint } from '~/contract/sources/opcua'
import type { Tag } from '~/contract/tag'
import type { PeerTime } from '~/core/proof/peer-time'
import type { Scalar } from '~/core/value/deadband'
import type { OpenCredential } from '~/store/credential'
import type { Batch, TagNote } from '../live/table'

/** What drivers need from their surroundings. */
export interface SourceContext {
  /** Embrik's own certificate and key (PEM), under which it appears to OPC UA servers. */
  application: { certificate: string; key: string }
  /** A folder of the engine's own for trust lists and the like. */
  workFolder: string
}

/** A source as a driver gets it: settings, with secrets and credentials opened. Never logged. */
export interface SourceTarget<K extends SourceKind = SourceKind> {
  name: string
  kind: K
  settings: SettingsOf<K>
  password: string | null
  authority: OpenCredential | null
  credential: OpenCredential | null
  /** The log-in of the proxy through which it is reached. */
  proxy: OpenCredential | null
}

/** Where a running connection reports. Every method may be called at any time until `close` has resolved. */
export interface SourceSink {
  /** The link is lost for good: the driver must be closed and opened anew. */
  down(failure: Failure): void
  values(batch: Batch): void
  /** Values and times stay as they are; only the status is another now, for this reason. */
  mark(handles: readonly number[], status: number, note: TagNote): void
  /** How long the source took to answer, ms. */
  roundTrip(ms: number): void
  /** Of a source that is read as a whole: all that it answered; or why it did not, this time. */
  document?(answer: { document: unknown; at: EpochMs } | { failure: Failure }): void
}

/** What a driver knows of a tag. */
export type WantedTag = Pick<Tag, 'handle' | 'address' | 'dataType'> & {
  /** A rate of its own, ms. */
  sampleMs?: number | null
  /** Width of its deadband in the units of the device; 0: every change. */
  width?: number
}

export interface SourceConnection {
  /** How it is connected, in a few words. */
  readonly summary: string
  /** Which tags to read from now on; what can't be read gets its status through the sink. */
  setTags(tags: readonly WantedTag[]): Promise<void>
  /** Writes a value and reads it back; gives what was read. Rejects with a FailureError. Kinds that cannot write have none. */
  write?(tag: WantedTag, value: Scalar): Promise<Scalar>
  /** What the source told last of its own time; null: nothing yet. Kinds that tell none have none. */
  peerTime?(): PeerTime | null
  /** Where it computes values itself: some of them move so many times as fast, until `multiple` is 1; gives how many. */
  pace?(handles: ReadonlySet<number>, multiple: number): number
  close(): Promise<void>
}

/** One protocol. */
export interface SourceDriver<K extends SourceKind> {
  /** Tries everything in order and yields each step twice: as running, then with what came of it. Saves nothing. */
  check(target: SourceTarget<K>, ctx: SourceContext): AsyncGenerator<CheckStep>
  /** What lies under an address ('' is the top); with `deep` all variables below it. */
  browse(target: SourceTarget<K>, ctx: SourceContext, address: string, deep: boolean): Promise<BrowseNode[]>
  /** Connects; rejects with a FailureError that says why not. */
  open(target: SourceTarget<K>, ctx: SourceContext, sink: SourceSink): Promise<SourceConnection>
  /** Which ways in a server offers, before anything is chosen. */
  endpoints?(endpoint: string, ctx: SourceContext): Promise<OfferedEndpoint[]>
  /** What the source itself has stored between two times (epoch ms): every sample, or one an interval. */
  history?(
    target: SourceTarget<K>,
    ctx: SourceContext,
    address: string,
    from: number,
    to: number,
    how: { aggregate: 'Minimum' | 'Maximum' | 'Average' | 'Interpolative' | 'Count'; everyMs: number } | { limit: number },
  ): Promise<{ at: number; value: Scalar; status: number }[]>
  /** Looks at raw registers about once a second, until the asker goes. */
  registers?(target: SourceTarget<K>, query: RegisterQuery, stop: AbortSignal): AsyncGenerator<RegisterLook>
  /** Listens on topics for some seconds and tells what was heard. */
  listen?(target: SourceTarget<K>, query: { filters: string; seconds: number }, stop: AbortSignal): AsyncGenerator<Heard>
}
