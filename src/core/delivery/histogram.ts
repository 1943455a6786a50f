const PER_OCTAVE = 8
/** Upper end of the lowest bucket, ms. */
const FLOOR = 0.125
const BUCKETS = 30 * PER_OCTAVE

/**
 * Counts durations in buckets of equal ratio (eight an octave, so a quantile is within 5 % of the truth), from an
 * eighth of a millisecond to over a day. Negative durations (clocks that disagree) count as the lowest bucket.
 */
export class Histogram {
  private buckets = new Uint32Array(BUCKETS)
  count = 0

  add(ms: number): void {
    const i = ms <= FLOOR ? 0 : Math.min(BUCKETS - 1, 1 + Math.floor(Math.log2(ms / FLOOR) * PER_OCTAVE))
    this.buckets[i]!++
    this.count++
  }

  merge(other: Histogram): void {
    for (let i = 0; i < BUCKETS; i++) this.buckets[i]! += other.buckets[i]!
    this.count += other.count
  }

  /** Takes out what was merged before. */
  subtract(other: Histogram): void {
    for (let i = 0; i < BUCKETS; i++) this.buckets[i]! -= other.buckets[i]!
    this.count -= other.count
  }

  /** The duration in ms below which the share `q` (0 to 1) lies, or null when empty. */
  quantile(q: number): number | null {
    if (this.count === 0) return null
    const wanted = Math.max(1, Math.ceil(q * this.count))
    let seen = 0
    for (let i = 0; i < BUCKETS; i++) {
      seen += this.buckets[i]!
      if (seen >= wanted) return i === 0 ? FLOOR : FLOOR * 2 ** ((i - 0.5) / PER_OCTAVE)
    }
    return null
  }

  /** Bars for a picture: upper end in ms and count, from the first to the last that isn't empty. */
  bars(): { ms: number; count: number }[] {
    const filled = Array.from(this.buckets.keys()).filter((i) => this.buckets[i]! > 0)
    if (filled.length === 0) return []
    const bars: { ms: number; count: number }[] = []
    for (let i = filled[0]!; i <= filled.at(-1)!; i++) bars.push({ ms: FLOOR * 2 ** (i / PER_OCTAVE), count: this.buckets[i]! })
    return bars
  }

  /** Pairs of bucket and count as little-endian uint16 and uint32; empty buckets left out. */
  encode(): Uint8Array {
    let filled = 0
    for (let i = 0; i < BUCKETS; i++) if (this.buckets[i]! > 0) filled++
    const view = new DataView(new ArrayBuffer(filled * 6))
    for (let i = 0, at = 0; i < BUCKETS; i++) {
      if (this.buckets[i]! === 0) continue
      view.setUint16(at, i, true)
      view.setUint32(at + 2, this.buckets[i]!, true)
      at += 6
    }
    return new Uint8Array(view.buffer)
  }

  static decode(bytes: Uint8Array): Histogram {
    const h = new Histogram()
    const view = new DataView(bytes.buffer, bytes.byteOffset, bytes.byteLength)
    for (let at = 0; at + 6 <= bytes.byteLength; at += 6) {
      const bucket = view.getUint16(at, true)
      const count = view.getUint32(at + 2, true)
      if (bucket < BUCKETS) {
        h.buckets[bucket]! += count
        h.count += count
      }
    }
    return h
  }
}
