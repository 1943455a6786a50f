/** Somebody sent octets that are no request of this protocol: the connection is closed. */
export class Malformed extends Error {}

/** Most entries of one list: each takes an octet at least, so that a short frame can't ask for a long list. */
const room = (count: number, left: number): number => {
  if (count > left) throw new Malformed(`a list of ${count} in ${left} octets`)
  return count
}

/**
 * Reads the primitive types of the stream protocol (big-endian). `flexible` versions write lengths as unsigned varints, one more than
 * they are, and end each structure with tagged fields.
 */
export class Reader {
  at = 0

  constructor(
    readonly octets: Buffer,
    public flexible = false,
  ) {}

  get left(): number {
    return this.octets.length - this.at
  }

  private take(length: number): number {
    if (length < 0 || length > this.left) throw new Malformed(`${length} octets wanted, ${this.left} left`)
    const at = this.at
    this.at += length
    return at
  }

  int8 = (): number => this.octets.readInt8(this.take(1))
  int16 = (): number => this.octets.readInt16BE(this.take(2))
  int32 = (): number => this.octets.readInt32BE(this.take(4))
  int64 = (): bigint => this.octets.readBigInt64BE(this.take(8))
  bool = (): boolean => this.int8() !== 0

  uvarint(): number {
    let value = 0
    for (let shift = 0; shift < 35; shift += 7) {
      const octet = this.octets[this.take(1)]!
      value += (octet & 0x7f) * 2 ** shift
      if (octet < 0x80) return value
    }
    throw new Malformed('a varint of more than five octets')
  }

  /** Zigzag, 64 bits: what records count in. */
  varint(): bigint {
    let value = 0n
    for (let shift = 0n; shift < 70n; shift += 7n) {
      const octet = this.octets[this.take(1)]!
      value |= BigInt(octet & 0x7f) << shift
      if (octet < 0x80) return (value >> 1n) ^ -(value & 1n)
    }
    throw new Malformed('a varint of more than ten octets')
  }

  raw(length: number): Buffer {
    const at = this.take(length)
    return this.octets.subarray(at, at + length)
  }

  text(): string | null {
    const length = this.flexible ? this.uvarint() - 1 : this.int16()
    return length < 0 ? null : this.raw(length).toString('utf8')
  }

  name(): string {
    return this.text() ?? ''
  }

  bytes(): Buffer | null {
    const length = this.flexible ? this.uvarint() - 1 : this.int32()
    return length < 0 ? null : this.raw(length)
  }

  list<T>(each: () => T): T[] {
    const count = this.flexible ? this.uvarint() - 1 : this.int32()
    return count < 0 ? [] : Array.from({ length: room(count, this.left) }, each)
  }

  /** Passes over tagged fields, which only flexible versions have. */
  tags(): void {
    if (!this.flexible) return
    for (let n = room(this.uvarint(), this.left); n > 0; n--) {
      this.uvarint()
      this.raw(this.uvarint())
    }
  }
}

/** Writes what `Reader` reads. */
export class Writer {
  private parts: Buffer[] = []
  private octets = Buffer.allocUnsafe(256)
  private at = 0

  constructor(readonly flexible = false) {}

  /** Room for so many octets, written at once: what they are put into may be another piece of memory than before. */
  private put(length: number, write: (octets: Buffer, at: number) => void): this {
    if (this.at + length > this.octets.length) {
      this.parts.push(this.octets.subarray(0, this.at))
      this.octets = Buffer.allocUnsafe(Math.max(length, 4096))
      this.at = 0
    }
    write(this.octets, this.at)
    this.at += length
    return this
  }

  int8 = (n: number): this => this.put(1, (octets, at) => octets.writeInt8(n, at))
  int16 = (n: number): this => this.put(2, (octets, at) => octets.writeInt16BE(n, at))
  int32 = (n: number): this => this.put(4, (octets, at) => octets.writeInt32BE(n, at))
  uint32 = (n: number): this => this.put(4, (octets, at) => octets.writeUInt32BE(n, at))
  int64 = (n: bigint | number): this => this.put(8, (octets, at) => octets.writeBigInt64BE(BigInt(n), at))
  uint8 = (n: number): this => this.put(1, (octets, at) => octets.writeUInt8(n, at))
  bool = (on: boolean): this => this.int8(on ? 1 : 0)

  uvarint(n: number): this {
    let rest = n
    while (rest >= 0x80) {
      this.uint8((rest % 0x80) | 0x80)
      rest = Math.floor(rest / 0x80)
    }
    return this.uint8(rest)
  }

  varint(n: bigint | number): this {
    const value = BigInt(n)
    let rest = BigInt.asUintN(64, (value << 1n) ^ (value >> 63n))
    while (rest >= 0x80n) {
      this.uint8(Number(rest & 0x7fn) | 0x80)
      rest >>= 7n
    }
    return this.uint8(Number(rest))
  }

  raw(octets: Uint8Array): this {
    return this.put(octets.length, (into, at) => into.set(octets, at))
  }

  text(text: string | null): this {
    const octets = text === null ? null : Buffer.from(text, 'utf8')
    if (this.flexible) this.uvarint(octets === null ? 0 : octets.length + 1)
    else this.int16(octets?.length ?? -1)
    return octets === null ? this : this.raw(octets)
  }

  bytes(octets: Uint8Array | null): this {
    if (this.flexible) this.uvarint(octets === null ? 0 : octets.length + 1)
    else this.int32(octets?.length ?? -1)
    return octets === null ? this : this.raw(octets)
  }

  /** A list; null is written as one that is absent. */
  list<T>(all: readonly T[] | null, each: (one: T) => unknown): this {
    if (this.flexible) this.uvarint(all === null ? 0 : all.length + 1)
    else this.int32(all?.length ?? -1)
    for (const one of all ?? []) each(one)
    return this
  }

  tags(): this {
    return this.flexible ? this.uvarint(0) : this
  }

  done(): Buffer {
    return Buffer.concat([...this.parts, this.octets.subarray(0, this.at)])
  }
}
