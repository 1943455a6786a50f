import { addAsides, type NewAside } from '~/store/aside'
import type { Db } from '~/store/database'
import type { Aside } from './destinations/supervisor'
import { log, wordsOf } from './log'

const HELD = 1000
const EVERY_MS = 500

const encoder = new TextEncoder()

/** Writes down what went aside; held in memory while the database is away. */
export class Asides {
  private waiting: NewAside[] = []
  private busy = false
  private readonly timer: NodeJS.Timeout

  constructor(private readonly db: Db) {
    this.timer = setInterval(() => void this.flush(), EVERY_MS)
  }

  add({ destinationId, envelope: e, failure }: Aside): void {
    if (this.waiting.length >= HELD) return
    const payload = typeof e.payload === 'string' ? encoder.encode(e.payload) : Uint8Array.from(e.payload)
    const { delivery, seq, topic, qos, retain, properties } = e
    const { code, message, hint } = failure
    this.waiting.push({ destinationId, delivery, seq, topic, qos, retain, properties, payload, code, message, hint })
  }

  async flush(): Promise<void> {
    if (this.busy || this.waiting.length === 0) return
    this.busy = true
    const batch = this.waiting
    this.waiting = []
    try {
      await this.db.transaction().execute((tx) => addAsides(tx, batch))
    } catch (e) {
      this.waiting = [...batch, ...this.waiting].slice(0, HELD)
      log('warn', 'database', `messages that went aside wait to be written: ${wordsOf(e)}`)
    } finally {
      this.busy = false
    }
  }

  async close(): Promise<void> {
    clearInterval(this.timer)
    await this.flush()
  }
}
