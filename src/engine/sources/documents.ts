import type { Failure } from '~/contract/failure'
import type { EpochMs } from '~/contract/id'
import type { Cancel } from '../clock/clock'
import { log, wordsOf } from '../log'

/** What a source of documents answered last. */
export interface Answered {
  /** Undefined: it has not answered since the engine began. */
  document: unknown
  at: EpochMs
  /** Why it is not asked, or does not answer, any more; null: it does. */
  lost: Failure | null
}

type Listener = (answered: Answered) => void

/** The last whole answer of each source of documents, for what goes by all of it and not by single places in it. */
export class Documents {
  private readonly last = new Map<string, Answered>()
  private readonly listeners = new Map<string, Set<Listener>>()

  /** Null: nothing is known of it yet. */
  of(sourceId: string): Answered | null {
    return this.last.get(sourceId) ?? null
  }

  /** Each answer from now on, the last one at once; and when no more come. */
  on(sourceId: string, listener: Listener): Cancel {
    const all = this.listeners.get(sourceId) ?? new Set()
    this.listeners.set(sourceId, all.add(listener))
    const last = this.last.get(sourceId)
    if (last) this.call(listener, last)
    return () => {
      all.delete(listener)
      if (all.size === 0 && this.listeners.get(sourceId) === all) this.listeners.delete(sourceId)
    }
  }

  tell(sourceId: string, document: unknown, at: EpochMs): void {
    this.answered(sourceId, { document, at, lost: null })
  }

  lost(sourceId: string, failure: Failure): void {
    const last = this.last.get(sourceId) ?? { document: undefined, at: 0 }
    if ('lost' in last && last.lost?.message === failure.message) return
    this.answered(sourceId, { ...last, lost: failure })
  }

  /** The source is no more. */
  forget(sourceId: string): void {
    this.last.delete(sourceId)
  }

  private answered(sourceId: string, now: Answered): void {
    this.last.set(sourceId, now)
    for (const listener of [...(this.listeners.get(sourceId) ?? [])]) this.call(listener, now)
  }

  /** One that throws is its own trouble. */
  private call(listener: Listener, now: Answered): void {
    try {
      listener(now)
    } catch (e) {
      log('error', 'sources', `whoever goes by the rows of a source: ${wordsOf(e)}`)
    }
  }
}
