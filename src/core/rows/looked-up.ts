import type { PlanLookup } from '~/contract/row-place'
import { type ReadRow, rowsOf } from './read'

/** What became of the last answer of a source. */
export interface LookupAnswer {
  document: unknown
  /** Why no more come; null: they do. */
  lost: string | null
}

/** The rows of a source in which something is looked up, as they were read last. */
export class LookedUp {
  private rows: ReadonlyMap<string, ReadRow> | null = null
  /** Why nothing is known, or why what is known may be old; null: it is as it was read last. */
  problem: string | null = null
  /** Whether anything is known of it: rows, or why there are none. */
  known = false

  constructor(readonly is: PlanLookup) {}

  take({ document, lost }: LookupAnswer): void {
    this.known = true
    if (document === undefined) {
      this.problem = lost
      return
    }
    const read = rowsOf(document, this.is, this.is.columns)
    if ('rows' in read) this.rows = read.rows
    this.problem = 'problem' in read ? read.problem : lost
  }

  /** Undefined: there is no such row; null: no rows were ever read. */
  of(name: string): ReadRow | undefined | null {
    return this.rows === null ? null : this.rows.get(name)
  }
}
