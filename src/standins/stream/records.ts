import { gunzipSync, gzipSync } from 'node:zlib'
import { Malformed, Reader, Writer } from './octets'

/** One record of a stream, as a producer sent it. */
export interface StreamRecord {
  /** null: none. */
  key: Buffer | null
  /** null: a tombstone. */
  value: Buffer | null
  headers: readonly [string, Buffer | null][]
  /** Epoch ms. */
  at: number
}

/** A batch of records with what tells whether it is a repetition (record batch, magic 2). */
export interface Batch {
  producerId: bigint
  producerEpoch: number
  /** Of its first record; -1: its producer does not count. */
  sequence: number
  records: StreamRecord[]
}

/** A batch came damaged on its way. */
export class Corrupt extends Error {}
/** A batch is packed in a way that is not known here. */
export class UnknownPacking extends Error {}

const HEADER = 61
const MOST_UNPACKED = 64 << 20

const table = Uint32Array.from({ length: 256 }, (_, n) => {
  let c = n
  for (let k = 0; k < 8; k++) c = c & 1 ? (c >>> 1) ^ 0x82f63b78 : c >>> 1
  return c
})

/** CRC-32C (Castagnoli), as batches carry it. */
export function crc32c(octets: Uint8Array): number {
  let c = 0xffffffff
  for (let i = 0; i < octets.length; i++) c = table[(c ^ octets[i]!) & 0xff]! ^ (c >>> 8)
  return (c ^ 0xffffffff) >>> 0
}

/** How records are packed, by the number in a batch's attributes; more can be handed in. */
export type Unpacking = Readonly<Record<number, (packed: Buffer) => Buffer>>
const built: Unpacking = { 0: (packed) => packed, 1: (packed) => gunzipSync(packed, { maxOutputLength: MOST_UNPACKED }) }

function unpacked(attributes: number, packed: Buffer, more: Unpacking): Buffer {
  const unpack = { ...built, ...more }[attributes & 7]
  if (!unpack) throw new UnknownPacking(`packed as ${attributes & 7}`)
  try {
    return unpack(packed)
  } catch (e) {
    throw new Corrupt(e instanceof Error ? e.message : String(e))
  }
}

const octetsOf = (read: Reader): Buffer | null => {
  const length = Number(read.varint())
  return length < 0 ? null : Buffer.from(read.raw(length))
}

/** Reads the batches that a producer sent for one partition, one behind the other. */
export function readBatches(octets: Buffer, more: Unpacking = {}): Batch[] {
  const out: Batch[] = []
  for (let at = 0; at < octets.length; ) {
    if (octets.length - at < HEADER) throw new Corrupt('a batch that ends in its header')
    const end = at + 12 + octets.readInt32BE(at + 8)
    if (end > octets.length || end - at < HEADER) throw new Corrupt('a batch of another length than it says')
    if (octets[at + 16] !== 2) throw new Corrupt(`a batch of magic ${octets[at + 16]}`)
    if (crc32c(octets.subarray(at + 21, end)) !== octets.readUInt32BE(at + 17)) throw new Corrupt('a wrong checksum')
    const read = new Reader(octets.subarray(at, end))
    read.at = 21
    const attributes = read.int16()
    read.int32()
    const first = read.int64()
    read.int64()
    const [producerId, producerEpoch, sequence, count] = [read.int64(), read.int16(), read.int32(), read.int32()]
    const body = new Reader(unpacked(attributes, octets.subarray(at + HEADER, end), more))
    const records: StreamRecord[] = []
    try {
      for (let n = 0; n < count; n++) records.push(readRecord(body, first))
    } catch (e) {
      throw e instanceof Malformed ? new Corrupt(e.message) : e
    }
    out.push({ producerId, producerEpoch, sequence, records })
    at = end
  }
  return out
}

function readRecord(read: Reader, first: bigint): StreamRecord {
  read.varint()
  read.int8()
  const at = Number(first + read.varint())
  read.varint()
  const [key, value] = [octetsOf(read), octetsOf(read)]
  const headers: [string, Buffer | null][] = []
  for (let n = Number(read.varint()); n > 0; n--) headers.push([octetsOf(read)?.toString('utf8') ?? '', octetsOf(read)])
  return { key, value, headers, at }
}

const sized = (write: Writer, octets: Buffer | null): void => {
  write.varint(octets?.length ?? -1)
  if (octets) write.raw(octets)
}

/** One batch of records at their offsets, which count up; `gzip` packs it. */
export function writeBatch(
  records: readonly (StreamRecord & { offset: number })[],
  by: Pick<Batch, 'producerId' | 'producerEpoch' | 'sequence'> = { producerId: -1n, producerEpoch: -1, sequence: -1 },
  gzip = false,
): Buffer {
  const [first, last] = [records[0]!, records.at(-1)!]
  const body = new Writer()
  for (const { key, value, headers, at, offset } of records) {
    const one = new Writer()
      .int8(0)
      .varint(at - first.at)
      .varint(offset - first.offset)
    sized(one, key)
    sized(one, value)
    one.varint(headers.length)
    for (const [name, text] of headers) {
      sized(one, Buffer.from(name))
      sized(one, text)
    }
    const octets = one.done()
    body.varint(octets.length).raw(octets)
  }
  const head = new Writer()
    .int16(gzip ? 1 : 0)
    .int32(last.offset - first.offset)
    .int64(first.at)
    .int64(records.reduce((most, r) => Math.max(most, r.at), first.at))
    .int64(by.producerId)
    .int16(by.producerEpoch)
    .int32(by.sequence)
    .int32(records.length)
  const summed = Buffer.concat([head.done(), gzip ? gzipSync(body.done()) : body.done()])
  return Buffer.concat([
    new Writer()
      .int64(first.offset)
      .int32(summed.length + 9)
      .int32(0)
      .int8(2)
      .uint32(crc32c(summed))
      .done(),
    summed,
  ])
}
