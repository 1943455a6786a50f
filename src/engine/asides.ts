import { addAsides, type NewAside } from '~/store/aside'
import type { Db } from '~/store/database'
import type { Aside } from './destinations/lane'
import { HeldRows } from './held-rows'

const encoder = new TextEncoder()

/** Writes down what went aside. */
export class Asides {
  private readonly rows: HeldRows<NewAside>

  constructor(db: Db) {
    this.rows = new HeldRows({
      what: 'messages that went aside',
      everyMs: 500,
      most: 1000,
      beyond: 'drop the newest',
      write: (rows) => db.transaction().execute((tx) => addAsides(tx, rows)),
    })
  }

  add({ destinationId, envelope: e, failure }: Aside): void {
    const payload = typeof e.payload === 'string' ? encoder.encode(e.payload) : Uint8Array.from(e.payload)
    const { delivery, seq, topic, assurance, properties } = e
    const { code, message, hint } = failure
    this.rows.add({ destinationId, delivery, seq, topic, assurance, properties, payload, code, message, hint })
  }

  close(): Promise<void> {
    return this.rows.close()
  }
}
