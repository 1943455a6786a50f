import type { CheckStep, Failure } from '~/contract/failure'
import type { BrowseNode, SourceDraft } from '~/contract/source'
import type { Tag } from '~/contract/tag'
import type { Batch } from '../live/table'

/** What drivers need from their surroundings. */
export interface SourceContext {
  /** Embrik's own certificate and key (PEM), under which it appears to OPC UA servers. */
  application: { certificate: string; key: string }
  /** A folder of the engine's own for trust lists and the like. */
  workFolder: string
}

export type SourceTarget = Pick<SourceDraft, 'name' | 'settings'> & { password: string | null }

/** Where a running connection reports. Every method may be called at any time until `close` has resolved. */
export interface SourceSink {
  up(): void
  /** The link is lost for good: the driver must be closed and opened anew. */
  down(failure: Failure): void
  values(batch: Batch): void
}

export interface SourceConnection {
  /** Which tags to read from now on; nodes that can't be read get their status through the sink. */
  setTags(tags: readonly Pick<Tag, 'handle' | 'address' | 'dataType'>[]): Promise<void>
  close(): Promise<void>
}

/** One protocol. */
export interface SourceDriver {
  /** Tries everything in order and yields each step twice: as running, then with what came of it. Saves nothing. */
  check(target: SourceTarget, ctx: SourceContext): AsyncGenerator<CheckStep>
  /** What lies under an address ('' is the top); with `deep` all variables below it. */
  browse(target: SourceTarget, ctx: SourceContext, address: string, deep: boolean): Promise<BrowseNode[]>
  /** Connects; rejects with a FailureError that says why not. */
  open(target: SourceTarget, ctx: SourceContext, sink: SourceSink): Promise<SourceConnection>
}
