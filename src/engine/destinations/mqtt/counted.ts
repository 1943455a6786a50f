/** One delivery of the witness's session that the broker may still repeat. */
export interface Delivered {
  /** 0 for a message that is nobody's, or not told apart yet. */
  delivery: number
  seq: number
  digest: number
  /** Seen; counted in its account; written, so that it may be acknowledged. */
  state: 'seen' | 'counted' | 'written'
  /** The connection on which it came last: only there may it be acknowledged, since another may give its identifier anew. */
  connection: number
}

const ENTRY = 2 + 4 + 8 + 8

/**
 * What the witness saw of its session and the broker may not yet know to be acknowledged, by packet identifier. A delivery
 * repeated under the same identifier (MQTT 5 4.4) is found in it and not counted again; any other is a copy of its own.
 */
export class CountedDeliveries {
  private readonly byId = new Map<number, Delivered>()
  private changed = false

  get(id: number): Delivered | undefined {
    return this.byId.get(id)
  }

  /** Those that came on earlier connections last, by delivery and number (`'3.10442'`). */
  before(connection: number): Map<string, Delivered> {
    const out = new Map<string, Delivered>()
    for (const d of this.byId.values()) if (d.delivery > 0 && d.connection < connection) out.set(`${d.delivery}.${d.seq}`, d)
    return out
  }

  get size(): number {
    return this.byId.size
  }

  set(id: number, d: Delivered): void {
    this.byId.set(id, d)
  }

  counted(d: Delivered): void {
    d.state = 'counted'
    this.changed = true
  }

  /** The broker has the acknowledgement: it can't repeat it any more. */
  forget(id: number, d: Delivered): void {
    if (this.byId.get(id) !== d) return
    this.byId.delete(id)
    this.changed = true
  }

  /** Forgets what came on earlier connections only: the broker repeats what it has to at the beginning of one. */
  forgetBefore(connection: number): void {
    for (const [id, d] of this.byId) {
      if (d.connection >= connection || d.state !== 'written') continue
      this.byId.delete(id)
      this.changed = true
    }
  }

  /** The session is gone at the broker, and with it all that could be repeated. */
  clear(): void {
    if (this.byId.size === 0) return
    this.byId.clear()
    this.changed = true
  }

  /** What is counted, for the ledger to write together with the counts; null when nothing changed since. */
  take(): Buffer | null {
    if (!this.changed) return null
    this.changed = false
    return this.encode()
  }

  /** Little-endian: packet identifier u16, delivery u32, sequence number f64, digest f64; only what is counted. */
  encode(): Buffer {
    const bytes = Buffer.allocUnsafe(this.byId.size * ENTRY)
    let at = 0
    for (const [id, d] of this.byId) {
      if (d.state === 'seen') continue
      bytes.writeUInt16LE(id, at)
      bytes.writeUInt32LE(d.delivery, at + 2)
      bytes.writeDoubleLE(d.seq, at + 6)
      bytes.writeDoubleLE(d.digest, at + 14)
      at += ENTRY
    }
    return bytes.subarray(0, at)
  }

  /** Reads what `encode` wrote; all of it is written, so it may be acknowledged at once. */
  restore(bytes: Buffer): void {
    for (let at = 0; at + ENTRY <= bytes.length; at += ENTRY)
      this.byId.set(bytes.readUInt16LE(at), {
        delivery: bytes.readUInt32LE(at + 2),
        seq: bytes.readDoubleLE(at + 6),
        digest: bytes.readDoubleLE(at + 14),
        state: 'written',
        connection: 0,
      })
  }
}
