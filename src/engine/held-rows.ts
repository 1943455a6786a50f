import { log, wordsOf } from './log'

export interface HeldRowsOptions<T> {
  /** What they are, for the log. */
  what: string
  everyMs: number
  /** Most that are held while the database is away, and which go then. */
  most: number
  beyond: 'drop the oldest' | 'drop the newest'
  write(rows: readonly T[]): Promise<void>
}

/** Rows that are written a few times a second, all together, and held in memory while the database is away. */
export class HeldRows<T> {
  private waiting: T[] = []
  private readonly timer: NodeJS.Timeout
  private writing: Promise<void> | null = null
  private said = false

  constructor(private readonly o: HeldRowsOptions<T>) {
    this.timer = setInterval(() => void this.flush(), o.everyMs)
  }

  private bounded(rows: T[]): T[] {
    const { most, beyond } = this.o
    if (rows.length <= most) return rows
    return beyond === 'drop the oldest' ? rows.slice(-most) : rows.slice(0, most)
  }

  add(row: T): void {
    this.waiting.push(row)
    this.waiting = this.bounded(this.waiting)
  }

  /** Writes what waits; while a write is under way, that is the one that is waited for. */
  flush(): Promise<void> {
    if (this.writing === null && this.waiting.length > 0) {
      this.writing = this.write().finally(() => {
        this.writing = null
      })
    }
    return this.writing ?? Promise.resolve()
  }

  private async write(): Promise<void> {
    const batch = this.waiting
    this.waiting = []
    try {
      await this.o.write(batch)
      this.said = false
    } catch (e) {
      this.waiting = this.bounded([...batch, ...this.waiting])
      if (!this.said) log('warn', 'database', `${this.o.what} wait to be written: ${wordsOf(e)}`)
      this.said = true
    }
  }

  /** Writes all, what came during a write too. */
  async close(): Promise<void> {
    clearInterval(this.timer)
    await this.writing
    await this.flush()
  }
}
