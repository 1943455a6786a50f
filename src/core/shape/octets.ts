/** Thrown by readers when octets are not what they should be; `at` is where. Caught where decoding begins. */
export class OctetError extends Error {
  constructor(
    message: string,
    readonly at: number,
  ) {
    super(message)
  }
}

const encoder = new TextEncoder()
const decoder = new TextDecoder('utf-8', { fatal: true })

/** Octets of a piece from which many messages are cut: making one for each costs more than writing it. */
const SLAB = 65_536

/**
 * Octets that grow as they are written; `take` hands them out and begins anew behind them. What is handed out shares its
 * buffer with others and is never written again. Little-endian unless it says otherwise.
 */
export class Writer {
  private bytes: Uint8Array
  private view: DataView
  /** Where this message begins. */
  private from = 0
  private at = 0

  constructor(private readonly slab = SLAB) {
    this.bytes = new Uint8Array(slab)
    this.view = new DataView(this.bytes.buffer)
  }

  /** Makes room for `n` more; a message that does not fit goes on in a new piece. */
  private more(n: number): number {
    const at = this.at
    if (at + n > this.bytes.length) return this.anew(n)
    this.at = at + n
    return at
  }

  private anew(n: number): number {
    const begun = this.bytes.subarray(this.from, this.at)
    this.bytes = new Uint8Array(Math.max(this.slab, (begun.length + n) * 2))
    this.bytes.set(begun)
    this.view = new DataView(this.bytes.buffer)
    this.from = 0
    this.at = begun.length + n
    return begun.length
  }

  u8(n: number): void {
    const at = this.more(1)
    this.bytes[at] = n
  }
  u16(n: number, little = true): void {
    const at = this.more(2)
    this.view.setUint16(at, n, little)
  }
  u32(n: number, little = true): void {
    const at = this.more(4)
    this.view.setUint32(at, n, little)
  }
  i32(n: number): void {
    const at = this.more(4)
    this.view.setInt32(at, n, true)
  }
  i64(n: bigint, little = true): void {
    const at = this.more(8)
    this.view.setBigInt64(at, n, little)
  }
  f32(n: number, little = true): void {
    const at = this.more(4)
    this.view.setFloat32(at, n, little)
  }
  f64(n: number, little = true): void {
    const at = this.more(8)
    this.view.setFloat64(at, n, little)
  }
  /** Those of another. */
  raw(octets: Uint8Array): void {
    const n = octets.length
    const at = this.more(n)
    // Few octets are faster by hand than through a call that copies.
    if (n > 32) this.bytes.set(octets, at)
    else for (let i = 0; i < n; i++) this.bytes[at + i] = octets[i]!
  }

  /** Octets made ready, with six others put in 15 before their end and a double, little-endian, in their last eight. */
  form(octets: Uint8Array, before: Uint8Array, value: number): void {
    const at = this.more(octets.length)
    const end = at + octets.length
    const { bytes } = this
    const n = octets.length - 15
    for (let i = 0; i < n; i++) bytes[at + i] = octets[i]!
    bytes[end - 9] = octets[n + 6]!
    for (let i = 0; i < 6; i++) bytes[end - 15 + i] = before[i]!
    this.view.setFloat64(end - 8, value, true)
  }

  /** UTF-8, without its length; says how many octets it took. */
  utf8(text: string): number {
    const from = this.more(text.length * 3)
    const { bytes } = this
    // Most texts are short and plain, which a loop writes faster than the encoder.
    if (text.length < 48) {
      let i = 0
      for (; i < text.length; i++) {
        const c = text.charCodeAt(i)
        if (c > 0x7f) break
        bytes[from + i] = c
      }
      if (i === text.length) {
        this.at = from + i
        return i
      }
    }
    const { written } = encoder.encodeInto(text, bytes.subarray(from))
    this.at = from + written
    return written
  }

  /** A varint of base 128, low groups first, as in Protocol Buffers; up to 2^53. */
  varint(n: number): void {
    while (n > 0x7fffffff) {
      this.u8((n % 128) | 0x80)
      n = Math.floor(n / 128)
    }
    while (n > 127) {
      this.u8((n & 127) | 128)
      n >>>= 7
    }
    this.u8(n)
  }

  /** What was written; the writer is empty again. */
  take(): Uint8Array {
    const out = this.bytes.subarray(this.from, this.at)
    this.from = this.at
    return out
  }
}

/** Reads octets in their order; every read is within bounds or throws an `OctetError`. Little-endian unless it says otherwise. */
export class Reader {
  private readonly view: DataView
  at: number
  readonly end: number

  constructor(
    readonly bytes: Uint8Array,
    from = 0,
    end = bytes.length,
  ) {
    this.view = new DataView(bytes.buffer, bytes.byteOffset, bytes.byteLength)
    this.at = from
    this.end = end
  }

  get left(): number {
    return this.end - this.at
  }

  private next(n: number): number {
    const at = this.at
    if (n < 0 || n > this.end - at) throw new OctetError(`It ends after ${this.end} octets, in the middle of something`, at)
    this.at = at + n
    return at
  }

  u8(): number {
    return this.view.getUint8(this.next(1))
  }
  i8(): number {
    return this.view.getInt8(this.next(1))
  }
  u16(little = true): number {
    return this.view.getUint16(this.next(2), little)
  }
  i16(little = true): number {
    return this.view.getInt16(this.next(2), little)
  }
  u32(little = true): number {
    return this.view.getUint32(this.next(4), little)
  }
  i32(little = true): number {
    return this.view.getInt32(this.next(4), little)
  }
  u64(little = true): bigint {
    return this.view.getBigUint64(this.next(8), little)
  }
  i64(little = true): bigint {
    return this.view.getBigInt64(this.next(8), little)
  }
  f32(little = true): number {
    return this.view.getFloat32(this.next(4), little)
  }
  f64(little = true): number {
    return this.view.getFloat64(this.next(8), little)
  }

  /** A view of the next `n`. */
  take(n: number): Uint8Array {
    const at = this.next(n)
    return this.bytes.subarray(at, at + n)
  }

  utf8(n: number): string {
    const at = this.at
    const octets = this.take(n)
    try {
      return decoder.decode(octets)
    } catch {
      throw new OctetError('A text is not UTF-8', at)
    }
  }

  /** Base 128, low groups first. */
  varint(): bigint {
    let out = 0n
    const from = this.at
    for (let shift = 0n; shift < 70n; shift += 7n) {
      const b = this.u8()
      out |= BigInt(b & 127) << shift
      if (b < 128) return BigInt.asUintN(64, out)
    }
    throw new OctetError('A number is longer than 64 bits', from)
  }
}

const texts = new TextEncoder()
/** Makes a writer of one text after the other that remembers the last: most members' texts stay the same. */
export function rememberedText(): (text: string) => Uint8Array {
  let last: string | null = null
  let octets: Uint8Array = new Uint8Array(0)
  return (text) => {
    if (text !== last) {
      octets = texts.encode(text)
      last = text
    }
    return octets
  }
}
