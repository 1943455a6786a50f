import type { Db } from '~/store/database'
import { type Kept, trim } from '~/store/trim'
import { log, wordsOf } from './log'

const EVERY_MS = 10 * 60_000
const FIRST_MS = 60_000

/** How long what has been is kept, days. Counts stay: only where in time they lie is forgotten. */
const kept: Kept = { sliceDays: 400, latencyDays: 30, versions: 100 }

/** Removes what nobody needs any more, now and then, a little at a time. */
export class Trimming {
  private timers: NodeJS.Timeout[] = []

  constructor(private readonly db: Db) {}

  start(): void {
    this.timers = [setTimeout(() => void this.run(), FIRST_MS), setInterval(() => void this.run(), EVERY_MS)]
  }

  private async run(): Promise<void> {
    await trim(this.db, kept, Date.now()).catch((e: unknown) => log('warn', 'database', `old rows were not removed: ${wordsOf(e)}`))
  }

  stop(): void {
    for (const t of this.timers) clearTimeout(t)
  }
}
