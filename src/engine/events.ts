import { newId } from '~/contract/id'
import type { Db } from '~/store/database'
import { addEvents, type NewEvent, trimEvents } from '~/store/event'
import { log, wordsOf } from './log'

const HELD = 2000
const KEPT = 100_000
/** The table is trimmed after so many were added. */
const TRIM_EVERY = 1000

/** The event list: what happened, where, and what to do; held in memory while the database is away. */
export class Events {
  private waiting: NewEvent[] = []
  private readonly timer: NodeJS.Timeout
  private busy = false
  private written = 0
  private said = false

  constructor(private readonly db: Db) {
    this.timer = setInterval(() => void this.flush(), 250)
  }

  add(event: Omit<NewEvent, 'at'>): void {
    const level = event.severity === 'trouble' ? 'error' : event.severity === 'warning' ? 'warn' : 'info'
    log(level, `${event.where} ${event.subject}`, `${event.message}${event.hint ? ` (${event.hint})` : ''}`)
    // The token tells a row that was written though its answer was lost.
    this.waiting.push({ ...event, at: Date.now(), token: newId() })
    if (this.waiting.length > HELD) this.waiting.splice(0, this.waiting.length - HELD)
  }

  async flush(): Promise<void> {
    if (this.busy || this.waiting.length === 0) return
    this.busy = true
    const batch = this.waiting
    this.waiting = []
    try {
      await addEvents(this.db, batch)
      this.written += batch.length
      this.said = false
    } catch (e) {
      this.waiting = [...batch, ...this.waiting].slice(-HELD)
      if (!this.said) log('warn', 'database', `events wait to be written: ${wordsOf(e)}`)
      this.said = true
    } finally {
      this.busy = false
    }
    if (this.written >= TRIM_EVERY) await this.trim()
  }

  /** Apart from the writing: when it fails nothing was written twice. */
  private async trim(): Promise<void> {
    this.written = 0
    await trimEvents(this.db, KEPT).catch((e: unknown) => log('warn', 'database', `old events were not removed: ${wordsOf(e)}`))
  }

  async close(): Promise<void> {
    clearInterval(this.timer)
    await this.flush()
  }
}
