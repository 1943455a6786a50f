import { newId } from '~/contract/id'
import type { Db } from '~/store/database'
import { addEvents, type NewEvent, trimEvents } from '~/store/event'
import { HeldRows } from './held-rows'
import { log, wordsOf } from './log'

const KEPT = 100_000
/** The table is trimmed after so many were added. */
const TRIM_EVERY = 1000

/** The event list: what happened, where, and what to do; held in memory while the database is away. */
export class Events {
  private readonly rows: HeldRows<NewEvent>
  private written = 0

  constructor(private readonly db: Db) {
    this.rows = new HeldRows({
      what: 'events',
      everyMs: 250,
      most: 2000,
      beyond: 'drop the oldest',
      write: async (rows) => {
        await addEvents(db, rows)
        this.written += rows.length
      },
    })
  }

  add(event: Omit<NewEvent, 'at'>): void {
    const level = event.severity === 'trouble' ? 'error' : event.severity === 'warning' ? 'warn' : 'info'
    log(level, `${event.where} ${event.subject}`, `${event.message}${event.hint ? ` (${event.hint})` : ''}`)
    // The token tells a row that was written though its answer was lost.
    this.rows.add({ ...event, at: Date.now(), token: newId() })
    if (this.written >= TRIM_EVERY) void this.trim()
  }

  flush(): Promise<void> {
    return this.rows.flush()
  }

  /** Apart from the writing: when it fails nothing was written twice. */
  private async trim(): Promise<void> {
    this.written = 0
    await trimEvents(this.db, KEPT).catch((e: unknown) => log('warn', 'database', `old events were not removed: ${wordsOf(e)}`))
  }

  close(): Promise<void> {
    return this.rows.close()
  }
}
